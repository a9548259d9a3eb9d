//! `kind = "file"`: events are appended to a file.

use rockrose_event::output::LineTemplate;
use rockrose_language::Mistake;

use super::{COMPRESS, Compression, DestinationSection, MODE, PlannedDestination, compression, mode};
use crate::checker::{Checker, MB};
use crate::keys::{Key, Shape, key, needed};
use crate::section::{At, Raw, Section};

const LAYOUTS: &[&str] = &["json lines", "text", "csv"];
const PERIODS: &[&str] = &["hour", "day"];

/// A file that events are appended to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileDestination {
    /// Its path.
    pub path: String,
    /// How events are written.
    pub layout: Layout,
    /// A file of so many bytes is put aside.
    pub rotate_at: Option<u64>,
    /// A new file is begun with each of these.
    pub rotate_every: Option<Period>,
    /// How many files that were put aside are kept.
    pub keep_files: Option<u64>,
    /// How files that were put aside are compressed.
    pub compression: Compression,
    /// The permissions of its files; none: what the umask leaves.
    pub mode: Option<u32>,
}

const FORMULAS: &[&str] = &["as text", "as they are"];

/// How events are written to a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Layout {
    /// JSON objects, a line each.
    JsonLines,
    /// Lines by a template (see [`rockrose_event::output::LineTemplate`]).
    Text(String),
    /// Rows of CSV, below a row of the columns' names.
    Csv {
        /// The fields that are columns.
        columns: Vec<String>,
        /// What spreadsheets take for formulas stays as it is.
        formulas: bool,
    },
}

/// A stretch of time that begins at a round one, in UTC.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Period {
    /// From hour to hour.
    Hour,
    /// From midnight to midnight.
    Day,
}

impl PlannedDestination for FileDestination {
    const WORD: &'static str = "file";
    const EXAMPLE: &'static str = "path = \"/var/lib/rockrose/files/events.jsonl\"\n\
        # rotate_every = \"day\"\n\
        # keep_files = 14\n\
        # compress = \"zstd\"\n";
    const KEYS: &'static [&'static [Key]] = &[&[
        needed("path", Shape::Text, "The file that events are appended to."),
        key("layout", Shape::Word(LAYOUTS), "How events are written. `json lines` if left out; `text` goes with `template`, `csv` with `columns`."),
        key("template", Shape::Text, "A line's text, with fields in braces: \"{time} {severity} {message}\"."),
        key("columns", Shape::Texts, "The fields that are columns, by their paths."),
        key(
            "formulas",
            Shape::Word(FORMULAS),
            "What becomes of texts in rows of CSV that spreadsheets take for formulas: `as text`, with an apostrophe before them, or `as they are`. `as text` if left out.",
        ),
        key("rotate_at", Shape::Size, "A file that has grown so large is put aside and a new one begun. Never, if left out."),
        key("rotate_every", Shape::Word(PERIODS), "A new file is begun with each hour or day, in UTC. Never, if left out."),
        key("keep_files", Shape::Count, "How many files that were put aside are kept; the oldest are removed. All, if left out."),
        COMPRESS,
        MODE,
    ]];

    fn read(c: &mut Checker<'_>, DestinationSection { section, .. }: DestinationSection<'_>) -> Option<FileDestination> {
        let path = section.text("path")?;
        if path.value.is_empty() || path.value.ends_with('/') || path.value.contains('\0') {
            c.mistakes.push(Mistake::new(path.at, "this names no file").expected("a file's path"));
        }
        Some(FileDestination {
            path: path.value.to_owned(),
            layout: layout(c, section),
            rotate_at: section.text("rotate_at").map(|_| c.size(section, "rotate_at", MB, 1_000_000 * MB)),
            rotate_every: section.text("rotate_every").map(|p| if p.value == "hour" { Period::Hour } else { Period::Day }),
            keep_files: if let Some(At { value: Raw::Count(n), .. }) = section.get("keep_files") { Some(*n) } else { None },
            compression: compression(section, Compression::Plain),
            mode: mode(c, section),
        })
    }

    fn address(&self) -> String {
        self.path.clone()
    }

    fn file(&self) -> Option<&str> {
        Some(&self.path)
    }
}

fn layout(c: &mut Checker<'_>, section: &Section) -> Layout {
    let (template, columns) = (section.text("template"), section.get("columns"));
    let word = section.text("layout").map_or("json lines", |l| l.value);
    let here = section.get("layout").map_or_else(|| section.name.at.clone(), |l| l.at.clone());
    let beside = if word == "text" { columns.map(|c| c.at.clone()) } else { template.as_ref().map(|t| t.at.clone()) };
    let beside = beside.or_else(|| if word == "json lines" { columns.map(|c| c.at.clone()) } else { None });
    let beside = beside.or_else(|| if word == "csv" { None } else { section.get("formulas").map(|f| f.at.clone()) });
    if let Some(at) = beside {
        c.mistakes.push(
            Mistake::new(at, format!("the layout `{word}` has no use for this"))
                .expected("`template` beside \"text\", `columns` and `formulas` beside \"csv\""),
        );
    }
    match (word, template) {
        ("text", Some(template)) => {
            if let Err((at, why)) = LineTemplate::new(template.value) {
                let at = c.place_in(&template, at);
                c.mistakes.push(Mistake::new(at, why));
            }
            Layout::Text(template.value.to_owned())
        }
        ("text", None) => {
            c.mistakes.push(Mistake::new(here, "lines of text need a template").expected("`template = \"{time} {severity} {message}\"`"));
            Layout::JsonLines
        }
        ("csv", _) => {
            let columns: Vec<String> = section.texts("columns").iter().map(|c| c.value.clone()).collect();
            if columns.is_empty() {
                c.mistakes.push(Mistake::new(here, "rows of CSV need columns").expected("`columns = [\"time\", \"severity\", \"message\"]`"));
            }
            Layout::Csv { columns, formulas: section.text("formulas").is_some_and(|f| f.value == "as they are") }
        }
        _ => Layout::JsonLines,
    }
}
