//! How much of this machine is idle.

/// Reads the share of idle time since it was read last.
#[derive(Debug, Default)]
pub struct Idle {
    before: Option<(u64, u64)>,
}

impl Idle {
    /// From 0 to 1; `None` the first time, and where the system does not say.
    pub fn read(&mut self) -> Option<f64> {
        let now = std::fs::read_to_string("/proc/stat").ok().and_then(|text| counted(&text))?;
        let (idle, all) = self.before.replace(now).map(|before| (now.0.checked_sub(before.0), now.1.checked_sub(before.1)))?;
        let (idle, all) = idle.zip(all).filter(|(_, all)| *all > 0)?;
        Some(idle as f64 / all as f64)
    }
}

/// Ticks of all cores together that were idle, and all of them.
fn counted(text: &str) -> Option<(u64, u64)> {
    let ticks: Vec<u64> = text.lines().next()?.strip_prefix("cpu ")?.split_whitespace().map_while(|n| n.parse().ok()).collect();
    // What guests take is in user time already; waiting for a disk is idle.
    let all = ticks.iter().take(8).sum();
    Some((ticks.get(3)? + ticks.get(4).copied().unwrap_or(0), all))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_are_counted_as_the_system_tells_them() {
        assert_eq!(counted("cpu  10 0 5 70 5 1 2 3 4 0\ncpu0 1 2 3\n"), Some((75, 96)));
        assert_eq!((counted(""), counted("cpu  1 2\n")), (None, None));
    }
}
