//! Devices that a claim is about, as they are written: `graphics`, `graphics tidegl`, `usb 1209`, `usb 1209:2c01`.

use std::fmt;

use serde::Deserialize;

/// Devices of a kind.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub enum Devices {
    /// Graphics cards.
    Graphics {
        /// With this driver; whichever they have where it is not said.
        driver: Option<String>,
    },
    /// What is plugged in, by the numbers that USB has for it, in hexadecimal.
    Usb {
        /// Whose it is.
        vendor: String,
        /// Which of theirs; all where it is not said.
        product: Option<String>,
    },
}

impl TryFrom<String> for Devices {
    type Error = &'static str;

    fn try_from(text: String) -> Result<Self, &'static str> {
        const FORMS: &str = "devices are \"graphics\", \"graphics DRIVER\", \"usb VENDOR\" or \"usb VENDOR:PRODUCT\"";
        let is_number = |text: &str| text.len() == 4 && text.bytes().all(|byte| byte.is_ascii_hexdigit());
        let (kind, rest) = text.split_once(' ').unwrap_or((&text, ""));
        let (vendor, product) = rest.split_once(':').map_or((rest, None), |(vendor, product)| (vendor, Some(product)));
        match kind {
            "graphics" if !rest.contains(' ') => {
                Ok(Self::Graphics { driver: (!rest.is_empty()).then(|| rest.to_owned()) })
            }
            "usb" if is_number(vendor) && product.is_none_or(is_number) => {
                let lower = |text: &str| text.to_ascii_lowercase();
                Ok(Self::Usb { vendor: lower(vendor), product: product.map(lower) })
            }
            _ => Err(FORMS),
        }
    }
}

impl fmt::Display for Devices {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Graphics { driver: None } => write!(f, "graphics"),
            Self::Graphics { driver: Some(driver) } => write!(f, "graphics {driver}"),
            Self::Usb { vendor, product: None } => write!(f, "usb {vendor}"),
            Self::Usb { vendor, product: Some(product) } => write!(f, "usb {vendor}:{product}"),
        }
    }
}
