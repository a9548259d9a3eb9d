//! `kind = "file"`: files, followed as they grow.

use rockrose_language::Mistake;

use super::{BEGIN_AT, Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::{Key, Shape, key, needed};
use crate::section::Section;

/// The files of a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Files {
    /// Patterns of those that are read.
    pub paths: Vec<String>,
    /// Patterns of those among them that are not.
    pub exclude: Vec<String>,
    /// Whether files that are there already are read from their beginning, not their end.
    pub from_start: bool,
    /// The field that tells each event's file.
    pub path_as: Option<String>,
}

impl PlannedSource for Files {
    const WORD: &'static str = "file";
    const EXAMPLE: &'static str = "paths = [\"/var/log/*.log\"]\n\
        # exclude = [\"*.gz\"]\n\
        # Lines that are there already are read as well with:\n\
        # begin_at = \"start\"\n";
    const KEYS: &'static [&'static [Key]] = &[&[
        needed(
            "paths",
            Shape::Texts,
            "Patterns of the files it reads, as in \"/var/log/kiosk/*.log\"; `**` stands for folders. Packed ones (gzip, zstd) are unpacked.",
        ),
        key("exclude", Shape::Texts, "Patterns of files among them that it does not read; one without a slash is of names."),
        key("but_not", Shape::Texts, "What `exclude` was called before."),
        BEGIN_AT,
        key("path_as", Shape::Text, "The field that tells each event's file, as in \"log.file.path\". None, if left out."),
    ]];
    const GUARD: Option<Guard> = None;

    fn read(c: &mut Checker<'_>, section: &Section, _certificates: Option<&SourceCertificates>) -> Option<Files> {
        let mut patterns = |key: &str| -> Vec<String> {
            let written = section.texts(key);
            for pattern in written {
                let wrong = if pattern.value.is_empty() { Some("it is empty".to_owned()) } else { wrong_with_pattern(&pattern.value) };
                if let Some(why) = wrong {
                    let message = format!("`{}` is not a pattern of files: {why}", pattern.value);
                    c.mistakes
                        .push(Mistake::new(pattern.at.clone(), message).expected("a path in which `*`, `?`, `[…]` and, for folders, `**` stand for others"));
                }
            }
            written.iter().map(|p| p.value.clone()).collect()
        };
        let (paths, mut exclude) = (patterns("paths"), patterns("exclude"));
        exclude.extend(patterns("but_not"));
        if let Some(old) = section.get("but_not") {
            let warning = Mistake::new(old.at.clone(), "`but_not` is called `exclude` now; it is still read");
            c.warnings.push(Mistake { nearest: Some("exclude".to_owned()), ..warning });
        }
        if paths.is_empty() {
            let at = section.get("paths")?.at.clone();
            c.mistakes.push(Mistake::new(at, "`paths` is empty").expected("at least one pattern, as in \"/var/log/kiosk/*.log\""));
        }
        let from_start = section.text("begin_at").is_some_and(|b| b.value == "start");
        Some(Files { paths, exclude, from_start, path_as: section.text("path_as").map(|p| p.value.to_owned()) })
    }

    fn takes(&self) -> (bool, bool) {
        (false, false)
    }

    fn reads(&self) -> String {
        self.paths.join(", ")
    }
}

/// Says what is wrong with a pattern of files, if anything is.
fn wrong_with_pattern(pattern: &str) -> Option<String> {
    let folders = pattern.split('/');
    if folders.clone().any(|part| part.contains("**") && part != "**") {
        return Some("`**` stands for folders, between slashes".to_owned());
    }
    let mut rest = pattern;
    while let Some(open) = rest.find('[') {
        // A bracket right behind the opening one, or behind `[!`, is one of the signs.
        let inside = &rest[open + 1..];
        let skip = usize::from(inside.starts_with('!'));
        let Some(close) = inside.get(skip + 1..).and_then(|i| i.find(']')) else { return Some("`[` is not closed".to_owned()) };
        rest = &inside[skip + 1 + close + 1..];
    }
    None
}
