//! `sample`: which events stay.
//!
//! The choice is a fixed hash (XXH3, 64 bits) of the key, so it is the same on every node and after every restart. Two samples by the
//! same key at different rates nest in different routes (what survives 1 in 20 also survives 1 in 10), since they hash alike; two in a row, on the same way of an event,
//! are salted apart, so that their weights multiply truly. Where there is no key, or what is wanted is a pace, the order of arrival decides as well ([`Thinning`]): events alike in all
//! they hold would else all stay or all go.

use std::sync::{Mutex, PoisonError};

use rockrose_event::field::{FieldId, Path, WEIGHT};
use rockrose_language::{self as language, Rate};
use xxhash_rust::xxh3::xxh3_64_with_seed;

use super::pace::{Targets, Thinning};
use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;
use crate::expression::Expression;

#[derive(Debug)]
struct Sample {
    sampler: Sampler,
    share: Share,
    by: Vec<FieldId>,
    unless: Option<Expression>,
    /// Of events without a key.
    keyless: Mutex<Thinning>,
    /// The field that carries the weight.
    mark: FieldId,
}

#[derive(Debug)]
enum Share {
    /// One in so many.
    OneIn(f64),
    /// Whatever comes to a pace.
    Target(Targets),
}

impl Compile for language::Sample {
    fn compile(&self, c: &mut CompileContext<'_>, at: &mut StepList) -> Box<dyn RunStep> {
        // The first sample on a route hashes as the first on any other: their choices nest.
        let salt = at.next_sample();
        let share = match self.rate {
            Rate::Target(pace) => Share::Target(Targets::new(pace.count, pace.per.ms())),
            rate => Share::OneIn(rate.weight().unwrap_or(1.0)),
        };
        let sampler = Sampler::new(self.rate.weight().unwrap_or(1.0), salt);
        let (by, unless) = (c.fields(&self.by), c.condition(self.unless.as_ref()));
        Box::new(Sample { sampler, share, by, unless, keyless: Mutex::default(), mark: c.field(&Path::name(WEIGHT)) })
    }
}

impl RunStep for Sample {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        if self.unless.as_ref().is_some_and(|unless| c.holds(unless, event)) {
            return Effect::None;
        }
        let any = c.key(&self.by, event);
        let (kept, weight) = match &self.share {
            // What share of a key is kept depends on how fast it comes.
            Share::Target(targets) => targets.keeps(&c.buffers.key, c.buffers.now_ms, event.view().json, self.sampler.salt),
            Share::OneIn(weight) if any => (self.sampler.keeps(&c.buffers.key), *weight),
            Share::OneIn(weight) => {
                let mut keyless = self.keyless.lock().unwrap_or_else(PoisonError::into_inner);
                (keyless.keeps(*weight, event.view().json, self.sampler.salt), *weight)
            }
        };
        if !kept {
            return Effect::Removed;
        }
        if matches!(self.share, Share::Target(_)) && weight <= 1.0 {
            return Effect::None;
        }
        let token = (c.weight(self.mark, event) * weight).to_string();
        event.edit(&c.shared.fields).set(&c.shared.fields, self.mark, token.as_bytes());
        Effect::Changed
    }
}

/// A share of the key space, and the salt that sets steps on one way apart.
#[derive(Clone, Copy, Debug)]
struct Sampler {
    /// A hash at or below this stays.
    threshold: u64,
    salt: u64,
}

impl Sampler {
    /// A sampler that keeps one in `weight`, on average. `salt` is the step's place among the samples on its way.
    fn new(weight: f64, salt: u64) -> Sampler {
        Sampler { threshold: (u64::MAX as f64 / weight.max(1.0)) as u64, salt }
    }

    /// Whether events with this key stay.
    #[inline]
    fn keeps(&self, key: &[u8]) -> bool {
        xxh3_64_with_seed(key, self.salt) <= self.threshold
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keeps_the_share_and_nests() {
        let (ten, twenty) = (Sampler::new(10.0, 0), Sampler::new(20.0, 0));
        let keys: Vec<_> = (0..100_000u32).map(u32::to_le_bytes).collect();
        let kept = keys.iter().filter(|k| ten.keeps(*k)).count();
        // Five standard deviations of a binomial with n = 100 000, p = 0.1.
        assert!((9_526..=10_474).contains(&kept), "{kept}");
        assert!(keys.iter().filter(|k| twenty.keeps(*k)).all(|k| ten.keeps(k)));
        assert!(keys.iter().all(|k| Sampler::new(1.0, 3).keeps(k)));
    }

    #[test]
    fn a_second_sample_on_the_same_way_thins_again() {
        let (first, second) = (Sampler::new(10.0, 0), Sampler::new(10.0, 1));
        let both = (0..100_000u32).filter(|n| first.keeps(&n.to_le_bytes()) && second.keeps(&n.to_le_bytes())).count();
        assert!((842..=1_158).contains(&both), "{both}");
    }

    #[test]
    fn weighted_counts_of_a_million_are_within_one_percent() {
        for weight in [2.0, 10.0, 20.0] {
            let sampler = Sampler::new(weight, 0);
            let counted = (0..1_000_000u64).filter(|n| sampler.keeps(format!("trace-{n:x}").as_bytes())).count() as f64 * weight;
            assert!((counted / 1e6 - 1.0).abs() < 0.01, "{counted} at a weight of {weight}");
        }
    }

    #[test]
    fn the_choice_never_changes() {
        let s = Sampler::new(4.0, 0);
        let kept: Vec<_> = ["a", "b", "c", "d", "e", "f", "g", "h"].into_iter().filter(|k| s.keeps(k.as_bytes())).collect();
        // Written down once: a change here would split traces between nodes of different versions.
        assert_eq!(kept, KEPT_OF_EIGHT);
    }

    const KEPT_OF_EIGHT: &[&str] = &["f"];
}
