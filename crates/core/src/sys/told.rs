//! What a running system tells by other means than files.

/// Facts of the running system; what it does not tell is unknown here.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Told {
    /// The system's release, like `15.1`.
    pub(crate) release: Option<String>,
    /// The kernel's release.
    pub(crate) kernel: Option<String>,
    /// What the processor calls itself.
    pub(crate) model: Option<String>,
    /// The processor's features, as the kernel names them, sorted.
    pub(crate) features: Vec<String>,
    /// All memory there is, in bytes.
    pub(crate) memory: Option<u64>,
    /// What changes when the machine restarts.
    pub(crate) boot: Option<String>,
    /// Whether the system runs in a virtual machine.
    pub(crate) is_guest: Option<bool>,
    /// Whether it can have virtual machines itself.
    pub(crate) can_have_guests: Option<bool>,
}

/// How the names of a processor's optional features begin.
#[cfg(any(target_os = "macos", test))]
const FEATURE: &str = "hw.optional.";

#[cfg(any(target_os = "macos", test))]
impl Told {
    /// Reads what sysctl(8) prints: a name, a colon and the value in each line.
    pub(crate) fn of_sysctl(text: &str) -> Self {
        let lines = || text.lines().filter_map(|line| line.split_once(": "));
        let value = |wanted: &str| lines().find(|(name, _)| *name == wanted).map(|(_, value)| value.trim().to_owned());
        let flag = |wanted: &str| value(wanted).map(|value| value == "1");
        let features = lines().filter(|(name, value)| name.starts_with(FEATURE) && value.trim() == "1");
        let mut features: Vec<String> =
            features.filter_map(|(name, _)| Some(name.rsplit('.').next()?.to_lowercase())).collect();
        features.sort();
        Self {
            release: value("kern.osproductversion"),
            kernel: value("kern.osrelease"),
            model: value("machdep.cpu.brand_string"),
            features,
            memory: value("hw.memsize").and_then(|bytes| bytes.parse().ok()),
            boot: value("kern.bootsessionuuid"),
            is_guest: flag("kern.hv_vmm_present"),
            can_have_guests: flag("kern.hv_support"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_by_their_names_and_the_rest_is_unknown() {
        let told = Told::of_sysctl(
            "kern.osproductversion: 15.1\nhw.memsize: 17179869184\nhw.optional.arm.FEAT_SHA256: 1\n\
             hw.optional.arm.FEAT_SME: 0\nhw.optional.neon: 1\nkern.hv_vmm_present: 0\nmachdep.cpu.brand_string: Tidal: 2\n",
        );
        assert_eq!(told.release.as_deref(), Some("15.1"));
        assert_eq!((told.memory, told.is_guest, told.can_have_guests), (Some(16 << 30), Some(false), None));
        assert_eq!(told.features, ["feat_sha256", "neon"]);
        assert_eq!((told.model.as_deref(), told.boot), (Some("Tidal: 2"), None));
    }
}
