use super::AccessUnit;

/// Follows whether pictures can be shown as the truth: from a clean point on, until something they
/// depend on is lost.
///
/// A clean point is a whole keyframe, or the end of a recovery period announced by a recovery point
/// SEI (ISO/IEC 14496-10 §D.2.8). After any loss the pictures count as unclean until the next clean
/// point, also when only a picture that nothing depends on was lost: that cannot be told from outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CleanPoint {
    /// Nothing clean yet, or lost again.
    #[default]
    Awaiting,
    /// A recovery period runs: clean after this many more access units.
    Recovering(u32),
    /// Clean.
    Clean,
}

impl CleanPoint {
    /// Takes the next access unit and says whether its picture can be shown as the truth.
    pub fn on_access_unit(&mut self, unit: &AccessUnit) -> bool {
        *self = match *self {
            _ if unit.keyframe && !unit.damaged => Self::Clean,
            _ if unit.damaged => Self::Awaiting,
            _ if unit.gap_before => Self::recovering(unit).unwrap_or_default(),
            Self::Awaiting => Self::recovering(unit).unwrap_or_default(),
            Self::Recovering(0 | 1) => Self::Clean,
            Self::Recovering(left) => Self::Recovering(left - 1),
            Self::Clean => Self::Clean,
        };
        *self == Self::Clean
    }

    fn recovering(unit: &AccessUnit) -> Option<Self> {
        unit.recovery.map(|left| if left == 0 { Self::Clean } else { Self::Recovering(left) })
    }
}
