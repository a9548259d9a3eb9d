//! `kind = "system_journal"`: the journal of a host's system, as `journalctl` shows it.

use rockrose_language::Mistake;

use super::{BEGIN_AT, Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::{Key, Shape, key};
use crate::section::Section;

/// Where the journal of a host is kept, unless it says otherwise.
const FOLDER: &str = "/var/log/journal";

/// The system journal of the host.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SystemJournal {
    /// The units whose entries are read; empty: all.
    pub units: Vec<String>,
    /// Whether what is in it already is read as well.
    pub from_start: bool,
    /// Fields of the system's own that events have beside the usual ones.
    pub fields: Vec<String>,
    /// A folder with a journal's files; the host's own journal, if left out.
    pub folder: Option<String>,
}

impl SystemJournal {
    /// The folder that it reads.
    #[must_use]
    pub fn reads_folder(&self) -> &str {
        self.folder.as_deref().unwrap_or(FOLDER)
    }

    /// Whether entries of one are entries of the other.
    pub(crate) fn meets(&self, other: &SystemJournal) -> bool {
        let shares = self.units.is_empty() || other.units.is_empty() || self.units.iter().any(|unit| other.units.contains(unit));
        shares && self.reads_folder() == other.reads_folder()
    }
}

/// Whether the journal would have a field of this name.
fn is_field(name: &str) -> bool {
    !name.is_empty() && name.len() <= 64 && name.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || b == b'_')
}

impl PlannedSource for SystemJournal {
    const WORD: &'static str = "system_journal";
    const EXAMPLE: &'static str = "# units = [\"ssh.service\"]\n\
        # Entries that are there already are read as well with:\n\
        # begin_at = \"start\"\n";
    const KEYS: &'static [&'static [Key]] = &[&[
        key("units", Shape::Texts, "Names of the systemd units whose entries it reads, as in \"ssh.service\"; `*` stands for others. All units, if left out."),
        BEGIN_AT,
        key("fields", Shape::Texts, "Fields of the system's own that events have beside the usual ones, as in \"_TRANSPORT\"."),
        key("folder", Shape::Text, "A folder with the files of another journal, as of a host whose disk is mounted here. The host's own journal, if left out."),
    ]];
    const GUARD: Option<Guard> = None;

    fn read(c: &mut Checker<'_>, section: &Section, _certificates: Option<&SourceCertificates>) -> Option<SystemJournal> {
        let mut named = |key: &str, is_good: fn(&str) -> bool, expected: &str| -> Vec<String> {
            for written in section.texts(key).iter().filter(|written| !is_good(&written.value)) {
                c.mistakes.push(Mistake::new(written.at.clone(), format!("`{}` cannot be one of `{key}`", written.value)).expected(expected));
            }
            section.texts(key).iter().map(|written| written.value.clone()).collect()
        };
        let is_unit = |name: &str| !name.is_empty() && name.len() <= 256 && name.bytes().all(|b| b.is_ascii_graphic());
        let units = named("units", is_unit, "the name of a unit, as in \"ssh.service\"");
        let fields = named("fields", is_field, "the name of a field in capitals, as in \"_TRANSPORT\"");
        let folder = section.text("folder").map(|folder| folder.value.to_owned());
        if let Some(empty) = section.get("folder").filter(|_| folder.as_deref() == Some("")) {
            c.mistakes.push(Mistake::new(empty.at.clone(), "`folder` is empty").expected("a path, or no `folder` for the host's own journal"));
        }
        let from_start = section.text("begin_at").is_some_and(|b| b.value == "start");
        Some(SystemJournal { units, from_start, fields, folder })
    }

    fn takes(&self) -> (bool, bool) {
        (false, false)
    }

    fn reads(&self) -> String {
        let journal = self.folder.as_ref().map_or_else(|| "the system journal".to_owned(), |folder| format!("the journal in {folder}"));
        if self.units.is_empty() { journal } else { format!("{journal}: {}", self.units.join(", ")) }
    }
}
