//! Regular expressions at work: whether a text matches.
//!
//! A plan may have thousands of them, of which an event meets few. So each is first run by simulating its states, in buffers that all of a thread share; only the few that are asked most
//! are given automata of their own, which are many times quicker and larger.

use std::cell::RefCell;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, AtomicUsize, Ordering};

use regex_automata::nfa::thompson::backtrack::{self, BoundedBacktracker};
use regex_automata::nfa::thompson::pikevm::{self, PikeVM};
use regex_automata::nfa::thompson::{Compiler, Config, NFA, WhichCaptures};
use regex_automata::util::syntax;

/// After so many texts an automaton is worth its while.
const WORTH_IT: u32 = 512;
/// Most regular expressions that have automata of their own at once, in all plans together.
const MAX_AUTOMATA: usize = 64;
/// Most memory that one automaton takes for each thread that runs it, in bytes.
const AUTOMATON_SIZE: usize = 256 << 10;

/// How many have automata of their own.
static AUTOMATA: AtomicUsize = AtomicUsize::new(0);

thread_local! {
    static BUFFERS: RefCell<Option<(backtrack::Cache, pikevm::Cache)>> = const { RefCell::new(None) };
}

/// A regular expression that can be asked whether it matches.
#[derive(Debug)]
pub struct Program {
    /// Of short texts.
    short: BoundedBacktracker,
    /// Of texts that are too long for that.
    long: PikeVM,
    /// How many texts it was asked of, as far as that matters.
    asked: AtomicU32,
    automaton: OnceLock<Automaton>,
    source: String,
    ignore_case: bool,
}

/// One of the few; it gives its place back when it goes.
#[derive(Debug)]
struct Automaton(regex::bytes::Regex);

impl Drop for Automaton {
    fn drop(&mut self) {
        AUTOMATA.fetch_sub(1, Ordering::AcqRel);
    }
}

/// The states of a regular expression, if they take no more than `size` bytes.
pub(crate) fn states(source: &str, ignore_case: bool, size: usize, captures: WhichCaptures) -> Option<NFA> {
    let syntax = syntax::Config::new().utf8(false).case_insensitive(ignore_case);
    let config = Config::new().utf8(false).nfa_size_limit(Some(size)).which_captures(captures);
    Compiler::new().syntax(syntax).configure(config).build(source).ok()
}

impl Program {
    /// `None` if it is no regular expression, or takes more than `size` bytes.
    pub(crate) fn new(source: &str, ignore_case: bool, size: usize) -> Option<Program> {
        let states = states(source, ignore_case, size, WhichCaptures::None)?;
        Some(Program {
            short: BoundedBacktracker::new_from_nfa(states.clone()).ok()?,
            long: PikeVM::new_from_nfa(states).ok()?,
            asked: AtomicU32::new(0),
            automaton: OnceLock::new(),
            source: source.to_owned(),
            ignore_case,
        })
    }

    /// Whether it matches somewhere in `text`.
    #[must_use]
    pub fn is_match(&self, text: &[u8]) -> bool {
        match self.automaton.get() {
            Some(Automaton(regex)) => regex.is_match(text),
            None => self.is_match_by_states(text),
        }
    }

    fn is_match_by_states(&self, text: &[u8]) -> bool {
        if self.asked.fetch_add(1, Ordering::Relaxed) == WORTH_IT {
            self.make_automaton();
        }
        BUFFERS.with_borrow_mut(|buffers| {
            let (short, long) = match buffers {
                Some((short, long)) => {
                    short.reset(&self.short);
                    (short, long)
                }
                None => {
                    let made = buffers.insert((self.short.create_cache(), self.long.create_cache()));
                    (&mut made.0, &mut made.1)
                }
            };
            self.short.try_is_match(short, text).unwrap_or_else(|_| {
                long.reset(&self.long);
                self.long.is_match(long, text)
            })
        })
    }

    fn make_automaton(&self) {
        let taken = AUTOMATA.fetch_update(Ordering::AcqRel, Ordering::Acquire, |n| (n < MAX_AUTOMATA).then_some(n + 1));
        if taken.is_err() {
            // It may be asked again when others are gone.
            self.asked.store(0, Ordering::Relaxed);
            return;
        }
        let built = regex::bytes::RegexBuilder::new(&self.source).case_insensitive(self.ignore_case).dfa_size_limit(AUTOMATON_SIZE).build();
        match built {
            Ok(regex) => drop(self.automaton.set(Automaton(regex))),
            // Its other parts are too large; it goes on as before.
            Err(_) => drop(AUTOMATA.fetch_sub(1, Ordering::AcqRel)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: usize = 2 << 20;

    #[test]
    fn states_and_automata_say_the_same() {
        let sources =
            [r"^gate \d+$", r"(?:opened|closed) by \w+", r"took ([\d.]+) ms", r"\bquay\b", "ä+", r"^\s*$", r"(?m)^b", "[^a]", r"(?-u:\xff)", "a*", r"\bk"];
        let texts: [&[u8]; 12] = [
            b"gate 12",
            b"gate",
            b"opened by ann",
            b"it took 3.5 ms",
            b"the quay.",
            "zwei ÄÄ".as_bytes(),
            b"",
            b"a\nb",
            b"\xff",
            b"aaa",
            b"Ka",
            "\u{212a}a".as_bytes(),
        ];
        for source in sources {
            for ignore_case in [false, true] {
                let program = Program::new(source, ignore_case, SIZE).unwrap();
                let regex = regex::bytes::RegexBuilder::new(source).case_insensitive(ignore_case).build().unwrap();
                for text in texts {
                    assert_eq!(program.is_match_by_states(text), regex.is_match(text), "{source} of {text:?}");
                }
            }
        }
    }

    #[test]
    fn one_that_is_asked_often_gets_an_automaton_and_gives_it_back() {
        let program = Program::new("gate (?:[0-4]+|x)", false, SIZE).unwrap();
        let asked = |times: u32| (0..times).all(|_| program.is_match(b"the gate 3 is shut"));
        assert!(asked(WORTH_IT) && program.automaton.get().is_none());
        assert!(asked(2) && program.automaton.get().is_some() && AUTOMATA.load(Ordering::Acquire) > 0);
        assert!(!program.is_match(b"the gate 7 is shut"));
    }

    #[test]
    fn a_text_of_any_length_is_looked_through() {
        let program = Program::new(r"\w+ shut$", true, SIZE).unwrap();
        let long = "gate open ".repeat(300_000) + "gate SHUT";
        assert!(program.is_match_by_states(long.as_bytes()) && !program.is_match_by_states(&long.as_bytes()[1..long.len() - 1]));
    }

    #[test]
    fn what_is_too_large_is_none() {
        assert!(Program::new(r"\w{1000}", false, SIZE).is_none() && Program::new("(", false, SIZE).is_none());
    }
}
