//! What a plan consists of, as it is written: also one that has mistakes, as long as it is TOML.

use toml_edit::{DocumentMut, Item, TableLike};

use crate::edit::{EditError, Part, parts_of, read, table_of};

/// A source, destination, table, recipe or route, as it is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutlinedPart {
    /// Which one it is.
    pub part: Part,
    /// Its kind, such as `http`, where it says one.
    pub kind: Option<String>,
    /// The comment above it, without its marks.
    pub comment: String,
    /// The condition of a route, an alert or an assignment; nothing, if there is none.
    pub when: Option<String>,
    /// The sources that a route takes events from; none, if it takes them from every source. Of an assignment, what it collects.
    pub from: Vec<String>,
    /// Where a route leads.
    pub to: Vec<String>,
    /// The sentences of its list of steps.
    pub steps: Vec<String>,
    /// It, as it stands in the plan, without the comment above it.
    pub text: String,
}

/// The parts of the plan `text`: sources, destinations, tables, recipes, then routes, each in the order in which they are written.
///
/// ```
/// let parts = rockrose_plan::outline("[[route]]\nname = 'gates'\nwhen = 'gate >'\ndo = ['drop x']\nto = ['desk']\n").unwrap();
/// assert_eq!((parts[0].part.name.as_str(), parts[0].when.as_deref()), ("gates", Some("gate >")));
/// assert_eq!(parts[0].steps, ["drop x"]);
/// ```
///
/// # Errors
/// If the text is no TOML.
pub fn outline(text: &str) -> Result<Vec<OutlinedPart>, EditError> {
    let document = read(text)?;
    Ok(parts_of(&document).into_iter().filter_map(|part| outlined(&document, part)).collect())
}

fn texts(table: &dyn TableLike, key: &str) -> Vec<String> {
    let list = table.get(key).and_then(Item::as_array);
    list.into_iter().flatten().filter_map(|value| value.as_str().map(str::to_owned)).collect()
}

fn outlined(document: &DocumentMut, part: Part) -> Option<OutlinedPart> {
    let table = table_of(document, &part)?;
    let text = |key: &str| table.get(key).and_then(Item::as_str).map(str::to_owned);
    let steps = part.list().map(|key| texts(table, key)).unwrap_or_default();
    let header = if part.kind == "route" { "[[route]]".to_owned() } else { format!("[{}.{}]", part.kind, part.name) };
    let inner = table.iter().map(|(key, item)| match item.as_value() {
        Some(value) => format!("{key} ={value}"),
        None => format!("[{key}]\n{}", item.to_string().trim()),
    });
    let inner: Vec<String> = inner.collect();
    Some(OutlinedPart {
        kind: text("kind"),
        comment: comment_of(document, &part),
        when: text("when"),
        from: texts(table, if part.kind == "assignment" { "collect" } else { "from" }),
        to: texts(table, "to"),
        steps,
        text: format!("{header}\n{}\n", inner.join("\n")),
        part,
    })
}

/// The comment that stands above a part, without a blank line between.
fn comment_of(document: &DocumentMut, part: &Part) -> String {
    let item = if part.kind == "route" { None } else { document.get(part.kind).and_then(Item::as_table).and_then(|all| all.get(&part.name)) };
    let table = match item {
        Some(item) => item.as_table(),
        None => document
            .get("route")
            .and_then(Item::as_array_of_tables)
            .and_then(|routes| routes.iter().find(|route| route.get("name").and_then(Item::as_str) == Some(&part.name))),
    };
    let above = table.and_then(|table| table.decor().prefix()).and_then(|prefix| prefix.as_str()).unwrap_or_default();
    let lines: Vec<&str> = above.lines().rev().take_while(|line| line.starts_with('#')).collect();
    lines.into_iter().rev().map(|line| line.trim_start_matches('#').trim()).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_found_as_they_are_written_also_with_mistakes_in_them() {
        let text = "# The ferries.\n\n# All four quays,\n# and the pier.\n[source.gates] # here\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\non_arrival = ['tag line =']\n\n\
                    [table.ports]\nkind = 'csv'\n[recipe.short]\nsteps = [\n    'trim message to 1 KB', # enough\n]\n[destination.desk]\nalways = ['redact email']\n\n\
                    # What goes wrong.\n[[route]]\nname = 'trouble'\nfrom = ['gates']\nwhen = 'severity >'\ndo = ['use short']\nto = ['desk', 'nowhere']\n\n[[route]]\nname = 'all'\n";
        let parts = outline(text).unwrap();
        let named: Vec<String> = parts.iter().map(|p| format!("{}:{}", p.part.kind, p.part.name)).collect();
        assert_eq!(named, ["source:gates", "destination:desk", "table:ports", "recipe:short", "route:trouble", "route:all"]);
        let [gates, desk, _, short, trouble, all] = &parts[..] else { panic!("{parts:?}") };
        assert_eq!(
            (gates.kind.as_deref(), gates.comment.as_str(), &gates.steps[..]),
            (Some("http"), "All four quays, and the pier.", &["tag line =".to_owned()][..])
        );
        assert_eq!(gates.text, "[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\non_arrival = ['tag line =']\n");
        assert_eq!((desk.steps.len(), short.steps[0].as_str()), (1, "trim message to 1 KB"));
        assert_eq!(
            (trouble.when.as_deref(), &trouble.to[..], trouble.comment.as_str()),
            (Some("severity >"), &["desk".to_owned(), "nowhere".to_owned()][..], "What goes wrong.")
        );
        assert_eq!((all.when.as_deref(), all.from.len(), all.text.as_str()), (None, 0, "[[route]]\nname = 'all'\n"));
        assert!(outline("[source").is_err());
    }
}
