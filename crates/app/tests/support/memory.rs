//! What a program takes of memory.

/// Resident memory of a program in kB: of the process that was started, and of the one that works for it.
pub fn resident(process: u32) -> usize {
    let children = std::fs::read_to_string(format!("/proc/{process}/task/{process}/children")).unwrap_or_default();
    let all = children.split_whitespace().map(str::to_owned).chain([process.to_string()]);
    let of = |process: String| {
        let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmRSS"))?.to_owned();
        line.split_whitespace().nth(1)?.parse::<usize>().ok()
    };
    all.filter_map(of).sum()
}
