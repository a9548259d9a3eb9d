//! How times are written, as sentences say it: `"%d/%b/%Y" in "Europe/Lisbon"`.

use rockrose_event::time::{TimeForm, check_format, zone_is_known, zones};

use crate::cursor::{Cursor, Outcome};
use crate::mistake::Mistake;

/// `"%d/%b/%Y" in "Europe/Lisbon"`, each of them if it stands there.
pub(crate) fn time_form(c: &mut Cursor<'_>) -> Outcome<TimeForm> {
    let mut form = TimeForm::default();
    if c.rest().starts_with('"') {
        let start = c.at();
        let format = c.quoted("a time's format")?;
        if let Err(why) = check_format(&format) {
            return Err(
                Mistake::new(c.since(start), format!("not a time's format: {why}")).expected("`%Y`, `%m`, `%d`, `%H`, `%M`, `%S`, `%b`, `%z` and the like")
            );
        }
        form.format = Some(format);
    }
    if c.words("in") {
        let start = c.at();
        let zone = c.quoted("a time zone in quotes, as in \"Europe/Lisbon\"")?;
        if !zone_is_known(&zone) {
            let zones = zones();
            return Err(Mistake::new(c.since(start), format!("there is no time zone `{zone}`"))
                .expected("a zone's IANA name or an offset such as \"+02:00\"")
                .near(&zone, zones.iter().map(String::as_str)));
        }
        form.zone = Some(zone);
    }
    Ok(form)
}

/// A time's form in plain words, to stand behind the name of what holds the time.
pub(crate) fn in_words(form: &TimeForm) -> String {
    let format = form.format.as_ref().map_or_else(String::new, |f| format!(", read as `{f}`"));
    let zone = form.zone.as_ref().map_or_else(String::new, |z| format!(", in the zone {z} where none is named"));
    format + &zone
}
