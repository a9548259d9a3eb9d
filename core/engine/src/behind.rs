//! What events look like behind each step: kept by a trial, never by the live pass.

use std::collections::HashMap;

use rockrose_ledger::Stage;

use crate::drawn::{Drawn, Leaving, Random};

/// Some of the events that go on behind each step, each of them with the same chance.
#[derive(Debug, Default)]
pub(crate) struct BehindSteps {
    /// Most events of one step.
    most: usize,
    /// Room for so many bytes of further events, of all steps together.
    room: usize,
    /// For how many each of the present events stands.
    pub(crate) times: u64,
    random: Random,
    /// By the name of the source, route or destination; then by stage and place in the list, from 1.
    kept: HashMap<String, HashMap<(Stage, usize), Drawn>>,
}

impl BehindSteps {
    pub(crate) fn new(most: usize, room: usize) -> BehindSteps {
        BehindSteps { most, room, times: 1, ..BehindSteps::default() }
    }

    /// An event goes on behind a step.
    pub(crate) fn see(&mut self, stage: Stage, name: &str, position: usize, event: &[u8]) {
        if !self.kept.contains_key(name) {
            self.kept.insert(name.to_owned(), HashMap::new());
        }
        if let Some(list) = self.kept.get_mut(name) {
            list.entry((stage, position)).or_default().see(event, self.times, self.most, &mut self.room, &mut self.random);
        }
    }

    /// Those of one step, and for how many each stands.
    pub(crate) fn take(&mut self, stage: Stage, name: &str, position: usize) -> Leaving {
        self.kept.get_mut(name).and_then(|list| list.remove(&(stage, position))).map(|drawn| drawn.kept).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_many_are_kept_as_there_is_room_for_and_later_ones_as_well() {
        let mut behind = BehindSteps::new(10, 10_000);
        for number in 0..1_000 {
            behind.see(Stage::Route, "gates", 1, format!("{number}").as_bytes());
        }
        let kept = behind.take(Stage::Route, "gates", 1);
        let late = kept.iter().filter(|(event, _)| std::str::from_utf8(event).unwrap().parse::<u32>().unwrap() >= 500).count();
        assert!(kept.len() == 10 && (1..10).contains(&late), "{kept:?}");
        assert_eq!(behind.take(Stage::Route, "gates", 1), []);

        let mut behind = BehindSteps::new(10, 25);
        (0..5).for_each(|_| behind.see(Stage::Source, "a", 1, b"ten bytes."));
        behind.see(Stage::Source, "a", 2, b"12345");
        assert_eq!((behind.take(Stage::Source, "a", 1).len(), behind.take(Stage::Source, "a", 2).len()), (2, 1));
    }
}
