//! Which stretch of a queue a body holds, so that whoever takes it takes no event twice.

use std::fmt::{Display, Formatter};
use std::str::FromStr;

use super::Origin;

/// A place in a queue: the entry, and the event in it, from 0. Later events have greater places.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct QueuePlace {
    /// The queue entry.
    pub entry: i64,
    /// The event's place in that.
    pub place: i64,
}

impl QueuePlace {
    /// The header of an answer that says up to which place the queue is taken already.
    pub const HEADER: &'static str = "queue-taken";

    /// Where an event stands.
    #[must_use]
    pub fn of(origin: &Origin) -> QueuePlace {
        QueuePlace { entry: origin.entry, place: origin.place }
    }
}

impl Display for QueuePlace {
    fn fmt(&self, f: &mut Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}.{}", self.entry, self.place)
    }
}

/// A header does not say which stretch of a queue a body holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NoStretch;

impl Display for NoStretch {
    fn fmt(&self, f: &mut Formatter<'_>) -> std::fmt::Result {
        f.write_str("a stretch of a queue is its name and two places: `4f02/centre 12.0 19.4`")
    }
}

impl std::error::Error for NoStretch {}

impl FromStr for QueuePlace {
    type Err = NoStretch;

    fn from_str(text: &str) -> Result<QueuePlace, NoStretch> {
        let (entry, place) = text.split_once('.').ok_or(NoStretch)?;
        let number = |text: &str| text.parse::<i64>().ok().filter(|n| *n >= 0).ok_or(NoStretch);
        Ok(QueuePlace { entry: number(entry)?, place: number(place)? })
    }
}

/// The stretch of a queue from one event to another, both of them in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// The queue's name, which no other has.
    pub queue: String,
    /// The first event.
    pub first: QueuePlace,
    /// The last.
    pub last: QueuePlace,
}

/// Longest name of a queue, in bytes.
const LONGEST: usize = 128;

impl Stretch {
    /// The header of a request that says which stretch its body is.
    pub const HEADER: &'static str = "queue-stretch";
}

impl Display for Stretch {
    fn fmt(&self, f: &mut Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} {} {}", self.queue, self.first, self.last)
    }
}

impl FromStr for Stretch {
    type Err = NoStretch;

    fn from_str(text: &str) -> Result<Stretch, NoStretch> {
        let mut words = text.split_ascii_whitespace();
        let (Some(queue), Some(first), Some(last), None) = (words.next(), words.next(), words.next(), words.next()) else { return Err(NoStretch) };
        let stretch = Stretch { queue: queue.to_owned(), first: first.parse()?, last: last.parse()? };
        if queue.len() > LONGEST || stretch.first > stretch.last { Err(NoStretch) } else { Ok(stretch) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stretch_reads_as_it_prints_and_places_are_in_order() {
        let stretch: Stretch = "4f02/centre 12.0 19.4".parse().unwrap();
        assert_eq!((stretch.to_string().as_str(), stretch.last), ("4f02/centre 12.0 19.4", QueuePlace { entry: 19, place: 4 }));
        assert!(QueuePlace { entry: 9, place: 30 } < QueuePlace { entry: 10, place: 0 });
        for wrong in ["", "q 1.0", "q 1.0 0.9", "q 1 2", "q 1.0 2.0 3.0", "q -1.0 2.0", "q 1.0 2.x"] {
            assert_eq!(wrong.parse::<Stretch>(), Err(NoStretch), "{wrong}");
        }
    }
}
