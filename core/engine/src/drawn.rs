//! Some of many events, drawn by chance: what a trial keeps of those that pass a place.

/// Events, and for how many each stands.
pub type Leaving = Vec<(Vec<u8>, u64)>;

/// Random numbers, the same ones in each trial.
#[derive(Clone, Debug)]
pub(crate) struct Random(u64);

impl Default for Random {
    fn default() -> Self {
        Random(0x9e37_79b9_7f4a_7c15)
    }
}

impl Random {
    /// A number below `of`.
    pub(crate) fn below(&mut self, of: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % of.max(1)
    }
}

/// Events of which each had the same chance to be kept.
#[derive(Clone, Debug, Default)]
pub(crate) struct Drawn {
    came: u64,
    pub(crate) kept: Leaving,
}

impl Drawn {
    /// An event comes by that stands for `times`. At the most `most` are kept, and no more than there is room for in `room`, in bytes.
    pub(crate) fn see(&mut self, event: &[u8], times: u64, most: usize, room: &mut usize, random: &mut Random) {
        self.came += 1;
        if self.kept.len() < most {
            if let Some(left) = room.checked_sub(event.len()) {
                *room = left;
                self.kept.push((event.to_vec(), times));
            }
        } else if let Some(place) = self.kept.get_mut(random.below(self.came) as usize)
            && let Some(left) = (*room + place.0.len()).checked_sub(event.len())
        {
            *room = left;
            *place = (event.to_vec(), times);
        }
    }
}
