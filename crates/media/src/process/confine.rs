//! What a process that decodes gives up before it takes a stranger's bits.
//!
//! Where the kernel has them, seccomp (only the calls that decoding needs) and Landlock (no file, no port) hold; limits of memory,
//! files and processor time hold everywhere. What holds is tried afterwards, and told.

use super::words::Confinement;
use landlock::{ABI, Access as _, AccessFs, AccessNet, Ruleset, RulesetAttr as _, RulesetStatus, Scope};
use rustix::process::{DumpableBehavior, Resource, Rlimit, getrlimit, set_dumpable_behavior, setrlimit};
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule, apply_filter,
};
use std::collections::BTreeMap;
use std::time::Duration;

/// A process has at least that much address space, however small the machine is: one large H.265 stream needs it.
const LEAST_MEMORY: u64 = 768 << 20;
/// Processor time that it may use without being asked for anything.
const TIME: u64 = 20;

/// Gives everything up that decoding does not need.
pub(super) fn confine() -> Confinement {
    let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
    let memory = LEAST_MEMORY.max(half_of_memory());
    let memory = limit(Resource::As, memory).then_some(memory);
    for (what, most) in [(Resource::Core, 0), (Resource::Fsize, 0), (Resource::Nproc, 0), (Resource::Nofile, 32)] {
        limit(what, most);
    }
    renew_time();
    let landlock = landlocked();
    let few_calls = filtered();
    Confinement {
        no_files: std::fs::File::open("/").is_err() && std::fs::File::open("/proc/self/status").is_err(),
        no_network: std::net::UdpSocket::bind("127.0.0.1:0").is_err() && std::net::TcpListener::bind("127.0.0.1:0").is_err(),
        few_calls,
        landlock,
        memory,
    }
}

fn limit(what: Resource, most: u64) -> bool {
    setrlimit(what, Rlimit { current: Some(most), maximum: Some(most) }).is_ok()
}

#[allow(clippy::unnecessary_cast, reason = "the system counts in words of its own size")]
fn half_of_memory() -> u64 {
    let system = rustix::system::sysinfo();
    (system.totalram as u64).saturating_mul(u64::from(system.mem_unit.max(1))) / 2
}

/// It may use processor time for a while from now on; one that runs on by itself, because whoever started it is gone, is ended.
pub(super) fn renew_time() {
    let used = nix::time::ClockId::CLOCK_PROCESS_CPUTIME_ID.now().map(Duration::from).unwrap_or_default().as_secs();
    let allowed = getrlimit(Resource::Cpu);
    if allowed.current.is_none_or(|most| most < used + TIME / 2) {
        let _ = setrlimit(Resource::Cpu, Rlimit { current: Some(used + TIME), maximum: allowed.maximum });
    }
}

/// No file, no port, no signal to others, by the kernel's own rules.
fn landlocked() -> bool {
    let abi = ABI::V6;
    let ruleset = Ruleset::default()
        .handle_access(AccessFs::from_all(abi))
        .and_then(|rules| rules.handle_access(AccessNet::from_all(abi)))
        .and_then(|rules| rules.scope(Scope::from_all(abi)))
        .and_then(Ruleset::create)
        .and_then(landlock::RulesetCreated::restrict_self);
    ruleset.is_ok_and(|status| status.ruleset != RulesetStatus::NotEnforced)
}

/// The calls that decoding needs; all others fail.
fn filtered() -> bool {
    let Some(program) = program() else { return false };
    apply_filter(&program).is_ok()
}

fn program() -> Option<BpfProgram> {
    let any: &[i64] = &[
        // The socket to whoever asks, and leave.
        libc::SYS_recvmsg,
        libc::SYS_sendmsg,
        libc::SYS_close,
        libc::SYS_exit,
        libc::SYS_exit_group,
        // Memory.
        libc::SYS_munmap,
        libc::SYS_mremap,
        libc::SYS_madvise,
        libc::SYS_brk,
        libc::SYS_fstat,
        // Time, locks, and the end by a signal.
        libc::SYS_clock_gettime,
        libc::SYS_clock_nanosleep,
        libc::SYS_futex,
        libc::SYS_sched_yield,
        libc::SYS_getrandom,
        libc::SYS_getpid,
        libc::SYS_gettid,
        libc::SYS_rt_sigaction,
        libc::SYS_rt_sigprocmask,
        libc::SYS_rt_sigreturn,
        libc::SYS_sigaltstack,
        libc::SYS_restart_syscall,
    ];
    let mut rules: BTreeMap<i64, Vec<SeccompRule>> = any.iter().map(|call| (*call, Vec::new())).collect();
    // Memory that can be run is never asked for.
    let executable = u64::try_from(libc::PROT_EXEC).ok()?;
    let not_executable = || SeccompCondition::new(2, SeccompCmpArgLen::Dword, SeccompCmpOp::MaskedEq(executable), 0);
    for call in [libc::SYS_mmap, libc::SYS_mprotect] {
        rules.insert(call, vec![SeccompRule::new(vec![not_executable().ok()?]).ok()?]);
    }
    // Its own limit of processor time, and nobody else's.
    let is = |argument, value| SeccompCondition::new(argument, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, value).ok();
    let own = vec![is(0, 0)?, is(1, u64::from(libc::RLIMIT_CPU))?];
    rules.insert(libc::SYS_prlimit64, vec![SeccompRule::new(own).ok()?]);
    let refused = SeccompAction::Errno(u32::try_from(libc::EPERM).ok()?);
    let filter = SeccompFilter::new(rules, refused, SeccompAction::Allow, std::env::consts::ARCH.try_into().ok()?).ok()?;
    filter.try_into().ok()
}
