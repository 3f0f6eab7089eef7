//! Firmware with known faults: a list that a site keeps, a line each.

/// A version of a firmware that has a fault.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirmwareFault {
    maker: String,
    model: String,
    version: String,
    /// What is wrong with it, and what to do.
    pub what: String,
}

/// The list that comes with the program: the stand-in port's makers alone, since faults of real ones go out of date; a site
/// keeps its own.
const COMMON: &str = include_str!("firmware.txt");

/// The faults of a list and of the one that comes with the program: `maker | model | version | what`, where `*` at the end
/// of a word stands for anything. Empty lines and `#` remarks are skipped.
///
/// # Errors
/// The number of the first line that is not so.
pub fn firmware_faults(own: &str) -> Result<Vec<FirmwareFault>, usize> {
    let mut out = Vec::new();
    for text in [own, COMMON] {
        for (index, line) in text.lines().enumerate() {
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let parts: Vec<&str> = line.splitn(4, '|').map(str::trim).collect();
            let [maker, model, version, what] = parts.as_slice() else { return Err(index + 1) };
            if what.is_empty() || version.is_empty() {
                return Err(index + 1);
            }
            let [maker, model, version] = [maker, model, version].map(|text| (*text).to_lowercase());
            out.push(FirmwareFault { maker, model, version, what: (*what).to_owned() });
        }
    }
    Ok(out)
}

impl FirmwareFault {
    /// Whether a device has this firmware.
    #[must_use]
    pub fn applies(&self, maker: Option<&str>, model: Option<&str>, version: Option<&str>) -> bool {
        let fits = |pattern: &str, text: Option<&str>| {
            let text = text.unwrap_or("").to_lowercase();
            match pattern.strip_suffix('*') {
                Some(beginning) => text.starts_with(beginning) && version.is_some(),
                None => text == pattern,
            }
        };
        fits(&self.maker, maker) && fits(&self.model, model) && fits(&self.version, version)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_firmware_is_found_by_maker_model_and_version() {
        let all = firmware_faults("# ours\nCorvane | CV-* | 4.2.0 | stops after a month: update\n").unwrap();
        let fault = |maker, model, version| all.iter().find(|fault| fault.applies(Some(maker), Some(model), Some(version)));
        assert!(fault("corvane", "CV-20", "4.2.0").unwrap().what.contains("month"));
        assert!(fault("Corvane", "CV-20", "4.2.1").is_none() && fault("Corvane", "DX", "4.2.0").is_none());
        assert!(!all.iter().any(|fault| fault.applies(None, None, None)));
        assert_eq!(firmware_faults("\nCorvane 4.2\n"), Err(2));
    }
}
