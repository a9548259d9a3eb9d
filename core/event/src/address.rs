//! IP addresses and networks as texts.

use std::net::IpAddr;

/// A range of addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Network {
    /// Its base address.
    pub base: IpAddr,
    /// How many leading bits are fixed.
    pub prefix: u8,
}

impl Network {
    /// Reads an address, or one and a prefix length.
    #[must_use]
    pub fn read(text: &str) -> Option<Network> {
        let (address, prefix) = text.split_once('/').map_or((text, None), |(a, p)| (a, Some(p)));
        let base: IpAddr = address.parse().ok()?;
        let most = if base.is_ipv4() { 32 } else { 128 };
        let prefix = prefix.map_or(Some(most), |p| p.parse().ok().filter(|p| *p <= most))?;
        Some(Network { base, prefix })
    }

    /// Whether `address` lies in it. An IPv4 address written as IPv6 (`::ffff:…`) counts as IPv4.
    #[must_use]
    pub fn contains(&self, address: IpAddr) -> bool {
        let bits = |ip: IpAddr| match ip.to_canonical() {
            IpAddr::V4(v4) => (u128::from(u32::from(v4)) << 96, false),
            IpAddr::V6(v6) => (u128::from(v6), true),
        };
        let ((mine, six), (other, other_six)) = (bits(self.base), bits(address));
        let mask = u128::MAX.checked_shl(128 - u32::from(self.prefix)).unwrap_or(0);
        six == other_six && (mine ^ other) & mask == 0
    }
}

impl std::fmt::Display for Network {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}/{}", self.base, self.prefix)
    }
}

/// The address that a text is, if it is one.
pub fn address(text: &[u8]) -> Option<IpAddr> {
    let text = text.trim_ascii();
    if let Some(v4) = ipv4(text) {
        return Some(IpAddr::V4(v4.into()));
    }
    std::str::from_utf8(text).ok()?.parse().ok()
}

/// Four numbers and three dots.
#[inline]
fn ipv4(text: &[u8]) -> Option<u32> {
    let (mut address, mut part, mut digits, mut dots) = (0u32, 0u32, 0, 0);
    for &b in text {
        match b {
            b'0'..=b'9' => {
                // A number that begins with a zero is read as octal by some, so it is none.
                if digits == 3 || digits > 0 && part == 0 {
                    return None;
                }
                part = part * 10 + u32::from(b - b'0');
                digits += 1;
            }
            b'.' if digits > 0 && part < 256 && dots < 3 => {
                address = address << 8 | part;
                (part, digits, dots) = (0, 0, dots + 1);
            }
            _ => return None,
        }
    }
    (dots == 3 && digits > 0 && part < 256).then_some(address << 8 | part)
}
