//! What a text is made of, counted once.

use rockrose_language::Detector;

/// How many bytes of each sort a text has.
#[derive(Clone, Copy, Debug, Default)]
pub struct Features {
    digits: u32,
    dots: u32,
    colons: u32,
    dashes: u32,
    ats: u32,
    /// What an `@` may begin with in another writing.
    writings: u32,
    /// Signs that stand before a secret: `=`, `:` and spaces.
    gaps: u32,
    letters: u32,
    len: usize,
}

/// For each byte, one in its lane of eight.
const LANES: [u64; 256] = {
    let mut lanes = [0u64; 256];
    let mut b = 0;
    while b < 256 {
        lanes[b] = match b as u8 {
            b'0'..=b'9' => 1,
            b'.' => 1 << 8,
            b':' => 1 << 16 | 1 << 40,
            b'-' => 1 << 24,
            b'@' => 1 << 32,
            b'%' | b'&' | b'\\' => 1 << 56,
            b'=' | b' ' => 1 << 40,
            b'a'..=b'z' | b'A'..=b'Z' => 1 << 48,
            _ => 0,
        };
        b += 1;
    }
    lanes
};

impl Features {
    /// Those of a text that nobody has counted: every detector may find something.
    pub const ANY: Features = Features {
        digits: u32::MAX / 2,
        dots: u32::MAX,
        colons: u32::MAX,
        dashes: u32::MAX,
        ats: u32::MAX,
        writings: u32::MAX,
        gaps: u32::MAX,
        letters: u32::MAX / 2,
        len: usize::MAX,
    };

    /// Counts.
    #[must_use]
    pub fn of(text: &[u8]) -> Features {
        let mut f = Features { len: text.len(), ..Features::default() };
        for chunk in text.chunks(255) {
            let sum = chunk.iter().fold(0u64, |sum, b| sum + LANES[*b as usize]);
            let lane = |n: u32| (sum >> (8 * n) & 0xff) as u32;
            f.digits += lane(0);
            f.dots += lane(1);
            f.colons += lane(2);
            f.dashes += lane(3);
            f.ats += lane(4);
            f.gaps += lane(5);
            f.letters += lane(6);
            f.writings += lane(7);
        }
        f
    }

    /// Whether `detector` could find anything in the text. Never wrong when it says no.
    #[must_use]
    pub fn allow(&self, detector: Detector) -> bool {
        match detector {
            Detector::Email => self.ats > 0 || self.writings > 0,
            Detector::Card => self.digits >= 13,
            Detector::Iban => self.digits >= 2 && self.letters >= 2 && self.digits + self.letters >= 15,
            Detector::Phone => self.digits >= 7,
            Detector::NationalId => self.digits >= 9,
            Detector::Ipv4 => self.dots >= 3 && self.digits >= 4,
            Detector::Ipv6 => self.colons >= 2,
            Detector::Mac => self.colons >= 5 || self.dashes >= 5 || self.dots >= 2 || self.digits + self.letters >= 15,
            Detector::Secret => self.len >= 8,
            Detector::UrlPassword => self.ats > 0 && self.colons >= 2,
            Detector::PrivateKey => self.dashes >= 10,
        }
    }
}
