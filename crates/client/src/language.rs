//! `fmt`, `explain`.

use std::path::Path;

use serde_json::json;

use crate::format::{self, HEAD, paint};
use crate::plan::{mistakes, read};
use crate::{Exit, Failure, Outcome};

/// Prints a plan in canonical form, writes it back, or only says whether it is.
pub(crate) fn fmt(path: &Path, write: bool, check: bool) -> Outcome {
    let (text, name) = read(path)?;
    let canonical = match rockrose_plan::canonical(&text) {
        Ok(canonical) => canonical,
        Err(reports) => {
            format::line(&mistakes(&reports, &name))?;
            return Ok(Exit::BadPlan);
        }
    };
    if check {
        if canonical == text {
            return Ok(Exit::Done);
        }
        format::line(&format!("{name}: not in canonical form; `rockrose fmt --write {name}` makes it so"))?;
        return Ok(Exit::BadPlan);
    }
    if !write {
        format::line(canonical.trim_end())?;
        return Ok(Exit::Done);
    }
    if path == Path::new("-") {
        return Err(Failure::new(Exit::Failed, "standard input cannot be written back"));
    }
    if canonical != text {
        std::fs::write(path, &canonical).map_err(|e| Failure::new(Exit::Failed, format!("cannot write {}: {e}", path.display())))?;
    }
    Ok(Exit::Done)
}

/// Says in plain words what a sentence does, or where it is wrong.
pub(crate) fn explain(sentence: &str, as_json: bool) -> Outcome {
    match rockrose_language::explain(sentence) {
        Ok(said) => {
            let canonical = rockrose_language::parse_step(sentence)
                .map(|s| s.to_string())
                .or_else(|_| rockrose_language::parse_alert(sentence).map(|a| a.to_string()))
                .or_else(|_| rockrose_language::parse_condition(sentence).map(|c| c.to_string()))
                .unwrap_or_default();
            if as_json {
                return format::print_json(&json!({ "canonical": canonical, "says": said }));
            }
            format::line(&format!("{}\n{said}", paint(&canonical, HEAD)))?;
            Ok(Exit::Done)
        }
        Err(mistake) => {
            let report = rockrose_plan::Report::new(sentence, &mistake);
            if as_json {
                format::print_json(&json!({ "mistakes": [report] }))?;
            } else {
                format::line(report.render("the sentence").trim_end())?;
            }
            Ok(Exit::BadPlan)
        }
    }
}
