//! Plans for events that were sampled behind their sources' own steps.

use rockrose_plan::CheckedPlan;

/// The plan that runs, as it is with events that have left their sources' steps.
#[must_use]
pub fn behind_arrival(running: &CheckedPlan) -> CheckedPlan {
    let mut plan = running.clone();
    plan.sources.iter_mut().for_each(|source| source.on_arrival.clear());
    plan
}

/// Another plan, as it is with events that have left the steps of their sources in the `running` one: of each source only those steps that follow on those. Says as well, in sentences, what
/// such events cannot tell: what steps would let through, or leave as it was, that the other plan no longer has.
#[must_use]
pub fn behind_arrival_of(running: &CheckedPlan, plan: &CheckedPlan) -> (CheckedPlan, Vec<String>) {
    let (mut behind, mut cannot_tell) = (plan.clone(), Vec::new());
    for source in &mut behind.sources {
        let Some(before) = running.sources.iter().find(|s| s.name == source.name) else { continue };
        let (old, new) = (running.expanded(&before.on_arrival), plan.expanded(&source.on_arrival));
        let common = old.iter().zip(&new).take_while(|(old, new)| old == new).count();
        source.on_arrival = new[common..].to_vec();
        for step in &old[common..] {
            cannot_tell
                .push(format!("the source `{}`: its events were sampled behind `{step}`, so what that step did is done in the trial as well", source.name));
        }
    }
    (behind, cannot_tell)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_follows_is_done_again() {
        let plan = |steps: &str| {
            let text = format!("[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = [{steps}]\n[recipe.own]\nsteps = ['remove x', 'remove y']\n");
            CheckedPlan::read(&text).unwrap()
        };
        let running = plan("'tag a = 1', 'use own'");
        let of = |steps: &str| {
            let (plan, cannot_tell) = behind_arrival_of(&running, &plan(steps));
            (plan.sources[0].on_arrival.iter().map(ToString::to_string).collect::<Vec<_>>(), cannot_tell)
        };
        assert_eq!(of("'tag a = 1', 'use own', 'drop b = 2'"), (vec!["drop b = 2".to_owned()], Vec::new()));
        assert_eq!(of("'tag a = 1', 'remove x', 'remove y'"), (Vec::new(), Vec::new()));
        let (steps, cannot_tell) = of("'tag a = 1', 'remove y'");
        assert_eq!(steps, ["remove y"]);
        assert_eq!(cannot_tell.len(), 2);
        assert_eq!(cannot_tell[0], "the source `a`: its events were sampled behind `remove x`, so what that step did is done in the trial as well");
        assert!(behind_arrival(&running).sources[0].on_arrival.is_empty());
    }
}
