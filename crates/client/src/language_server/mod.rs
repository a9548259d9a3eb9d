//! `language-server`: plans in an editor, by the Language Server Protocol 3.17 over standard input and output.
//!
//! What it says of a plan comes from where everything else comes from: the check, the canonical form, the explanations, and what may follow in a sentence. Fields and values are those that the
//! running service has seen, if one can be reached; without it, the language and the plan itself are still known.

mod document;

use std::collections::HashMap;
use std::time::Duration;

use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types::{
    CompletionItem, CompletionItemKind, CompletionOptions, CompletionTextEdit, Diagnostic, DiagnosticSeverity, Hover, HoverContents, HoverProviderCapability,
    InitializeResult, Location, MarkupContent, MarkupKind, OneOf, Position, PublishDiagnosticsParams, ServerCapabilities, ServerInfo,
    TextDocumentSyncCapability, TextDocumentSyncKind, TextEdit, Uri,
};
use reqwest::Method;
use rockrose_api::{CompleteAnswer, CompleteRequest};
use rockrose_language::{Catalog, SentenceKind, following, proposals};
use rockrose_plan::{CheckedPlan, Report, plain_path};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::client::Client;
use crate::{Common, Exit, Failure, Outcome};
use document::{Document, Quoted, Section};

/// The service has so long to answer while somebody types.
const PATIENCE: Duration = Duration::from_millis(400);
/// A service that is still looking at its sample is asked again after so long.
const ASK_AGAIN: Duration = Duration::from_millis(50);
/// Most proposals.
const MOST: usize = 60;

pub(crate) async fn serve(common: &Common) -> Outcome {
    // Without a service the rest is still of use.
    let client = Client::new(common).ok();
    let handle = tokio::runtime::Handle::current();
    let served = tokio::task::spawn_blocking(move || {
        let (connection, threads) = Connection::stdio();
        let mut server = Server { client, handle, documents: HashMap::new() };
        let done = server.run(&connection);
        drop(connection);
        threads.join()?;
        done
    });
    let done = served.await.map_err(anyhow::Error::from)?;
    done.map_err(|e| Failure::new(Exit::Failed, e.to_string()))?;
    Ok(Exit::Done)
}

/// The text of a document, which is not sent in parts.
#[derive(Deserialize)]
struct Opened {
    #[serde(rename = "textDocument")]
    document: OpenedText,
}

#[derive(Deserialize)]
struct OpenedText {
    uri: String,
    text: String,
}

#[derive(Deserialize)]
struct Changed {
    #[serde(rename = "textDocument")]
    document: Named,
    #[serde(rename = "contentChanges")]
    changes: Vec<ChangedText>,
}

#[derive(Deserialize)]
struct ChangedText {
    text: String,
}

#[derive(Deserialize)]
struct Named {
    uri: String,
}

#[derive(Deserialize)]
struct Closed {
    #[serde(rename = "textDocument")]
    document: Named,
}

/// A place that something is asked of.
#[derive(Deserialize)]
struct At {
    #[serde(rename = "textDocument")]
    document: Named,
    #[serde(default)]
    position: Position,
}

struct Server {
    client: Option<Client>,
    handle: tokio::runtime::Handle,
    documents: HashMap<String, Document>,
}

fn capabilities() -> ServerCapabilities {
    ServerCapabilities {
        text_document_sync: Some(TextDocumentSyncCapability::Kind(TextDocumentSyncKind::FULL)),
        completion_provider: Some(CompletionOptions {
            trigger_characters: Some([" ", "\"", "'", "=", ".", "(", ","].map(str::to_owned).to_vec()),
            ..CompletionOptions::default()
        }),
        hover_provider: Some(HoverProviderCapability::Simple(true)),
        definition_provider: Some(OneOf::Left(true)),
        document_formatting_provider: Some(OneOf::Left(true)),
        ..ServerCapabilities::default()
    }
}

impl Server {
    fn run(&mut self, connection: &Connection) -> anyhow::Result<()> {
        let (id, _) = connection.initialize_start()?;
        let info = ServerInfo { name: "rockrose".to_owned(), version: Some(env!("CARGO_PKG_VERSION").to_owned()) };
        let result = InitializeResult { capabilities: capabilities(), server_info: Some(info) };
        connection.initialize_finish(id, serde_json::to_value(result)?)?;
        for message in &connection.receiver {
            match message {
                Message::Request(request) => {
                    // An editor that is gone before it has said so is gone all the same.
                    if connection.handle_shutdown(&request).unwrap_or(true) {
                        return Ok(());
                    }
                    connection.sender.send(Message::Response(self.answer(request)))?;
                }
                Message::Notification(notification) => {
                    for said in self.noted(notification) {
                        connection.sender.send(Message::Notification(said))?;
                    }
                }
                Message::Response(_) => {}
            }
        }
        Ok(())
    }

    /// A document was opened, changed or closed: what is to be said of it.
    fn noted(&mut self, notification: Notification) -> Vec<Notification> {
        let Notification { method, params } = notification;
        let (uri, document) = match method.as_str() {
            "textDocument/didOpen" => match serde_json::from_value::<Opened>(params) {
                Ok(opened) => (opened.document.uri, Some(opened.document.text)),
                Err(_) => return Vec::new(),
            },
            "textDocument/didChange" => match serde_json::from_value::<Changed>(params) {
                Ok(changed) => match changed.changes.into_iter().next_back() {
                    Some(change) => (changed.document.uri, Some(change.text)),
                    None => return Vec::new(),
                },
                Err(_) => return Vec::new(),
            },
            "textDocument/didClose" => match serde_json::from_value::<Closed>(params) {
                Ok(closed) => (closed.document.uri, None),
                Err(_) => return Vec::new(),
            },
            _ => return Vec::new(),
        };
        let diagnostics = match document {
            Some(text) => {
                let document = Document::new(text);
                let diagnostics = diagnostics(&document);
                self.documents.insert(uri.clone(), document);
                diagnostics
            }
            None => {
                self.documents.remove(&uri);
                Vec::new()
            }
        };
        let Ok(uri) = uri.parse::<Uri>() else { return Vec::new() };
        let params = PublishDiagnosticsParams { uri, diagnostics, version: None };
        vec![Notification::new("textDocument/publishDiagnostics".to_owned(), params)]
    }

    fn answer(&self, request: Request) -> Response {
        let Request { id, method, params } = request;
        let at = serde_json::from_value::<At>(params);
        let found = at.ok().and_then(|at| Some((self.documents.get(&at.document.uri)?, at)));
        let result = match (method.as_str(), found) {
            ("textDocument/completion", Some((document, at))) => json!(self.completion(document, document.place(at.position))),
            ("textDocument/hover", Some((document, at))) => json!(hover(document, document.place(at.position))),
            ("textDocument/definition", Some((document, at))) => json!(definition(document, document.place(at.position), &at.document.uri)),
            ("textDocument/formatting", Some((document, _))) => json!(formatting(document)),
            ("textDocument/completion" | "textDocument/hover" | "textDocument/definition" | "textDocument/formatting", None) => Value::Null,
            _ => return Response::new_err(id, ErrorCode::MethodNotFound as i32, format!("no `{method}` here")),
        };
        Response::new_ok(id, result)
    }

    fn completion(&self, document: &Document, place: usize) -> Vec<CompletionItem> {
        let Some(quoted) = document.quoted_at(place) else { return keys(document, place) };
        let section = document.section_at(place);
        match (quoted.sentence(), quoted.key.as_str()) {
            (Some(kind), _) => self.sentence(document, quoted, kind, section, place),
            (None, "to") => names(document, quoted, place, "destination"),
            (None, "from" | "source") => names(document, quoted, place, "source"),
            _ => Vec::new(),
        }
    }

    fn sentence(&self, document: &Document, quoted: &Quoted, kind: SentenceKind, section: &Section, place: usize) -> Vec<CompletionItem> {
        let text = quoted.decoded(&document.text, place);
        let kind = if section.kind == "alert" { SentenceKind::Alert } else { kind };
        let told = following(kind, &text);
        let kinds = ["table", "recipe", "source", "destination", "route", "budget"];
        let [tables, recipes, sources, destinations, routes, budgets] = kinds.map(|kind| document.names(kind));
        let catalog = Catalog {
            fields: &[],
            values: &|_| Vec::new(),
            tables: &tables,
            recipes: &recipes,
            sources: &sources,
            destinations: &destinations,
            routes: &routes,
            budgets: &budgets,
        };
        let own = proposals(&text, &told, &catalog, MOST).into_iter().map(|p| (p.text, p.sort.to_owned(), p.share));
        let seen = self.seen(document, kind, &text, section, quoted);
        let span = document.span(&(quoted.written_at(&document.text, told.from)..place));
        let item = |(at, (text, sort, share)): (usize, (String, String, Option<f64>))| CompletionItem {
            label: text.clone(),
            kind: Some(match sort.as_str() {
                "field" => CompletionItemKind::FIELD,
                "value" => CompletionItemKind::VALUE,
                "word" | "sign" => CompletionItemKind::KEYWORD,
                _ => CompletionItemKind::REFERENCE,
            }),
            detail: share.map(|share| format!("in {:.1} % of the events", 100.0 * share)),
            filter_text: Some(text.clone()),
            sort_text: Some(format!("{at:04}")),
            text_edit: Some(CompletionTextEdit::Edit(TextEdit { range: span, new_text: quoted.written(&text) })),
            ..CompletionItem::default()
        };
        // What is in the stream is what most look for.
        seen.into_iter().chain(own).enumerate().map(item).collect()
    }

    /// Fields and values that the service has seen.
    fn seen(&self, document: &Document, kind: SentenceKind, text: &str, section: &Section, quoted: &Quoted) -> Vec<(String, String, Option<f64>)> {
        let Some(client) = &self.client else { return Vec::new() };
        let mut points: Vec<String> = Vec::new();
        match section.kind.as_str() {
            "route" => {
                // What a route takes is written about before it takes it.
                if quoted.key == "do" {
                    points.push(format!("route:{}", section.name));
                }
                points.extend(document.texts(section, "from").map(|source| format!("source:{source}")));
                points.extend(document.names("source").into_iter().map(|source| format!("source:{source}")));
            }
            "source" => points.push(format!("source:{}", section.name)),
            _ => points.extend(document.names("source").into_iter().map(|source| format!("source:{source}"))),
        }
        let word = match kind {
            SentenceKind::Step => "step",
            SentenceKind::Condition => "condition",
            // It is about no field.
            SentenceKind::Alert => return Vec::new(),
        };
        for point in points.into_iter().take(3) {
            let request = CompleteRequest { kind: word.to_owned(), text: text.to_owned(), point: Some(point), most: Some(MOST) };
            let asked = async {
                loop {
                    let answer: CompleteAnswer = client.call(Method::POST, "/api/v1/complete", &request).await.ok()?.read().ok()?;
                    if !answer.partial {
                        return Some(answer);
                    }
                    tokio::time::sleep(ASK_AGAIN).await;
                }
            };
            let Ok(Some(answer)) = self.handle.block_on(async { tokio::time::timeout(PATIENCE, asked).await }) else { continue };
            let seen: Vec<_> =
                answer.proposals.into_iter().filter(|p| matches!(p.sort.as_str(), "field" | "value")).map(|p| (p.text, p.sort, p.share)).collect();
            if !seen.is_empty() {
                return seen;
            }
        }
        Vec::new()
    }
}

/// What is wrong with a plan, each at its place.
fn diagnostics(document: &Document) -> Vec<Diagnostic> {
    let said = |report: &Report, severity: DiagnosticSeverity| {
        let hint = match (&report.expected, &report.nearest) {
            (_, Some(nearest)) => format!("; did you mean `{nearest}`?"),
            (Some(expected), None) => format!("; expected {expected}"),
            (None, None) => String::new(),
        };
        Diagnostic {
            range: document.reported(report.line, report.column, report.length),
            severity: Some(severity),
            source: Some("rockrose".to_owned()),
            message: format!("{}{hint}", report.message),
            ..Diagnostic::default()
        }
    };
    match CheckedPlan::read_where(&document.text, plain_path, crate::plan::beginning) {
        Err(reports) => reports.iter().map(|report| said(report, DiagnosticSeverity::ERROR)).collect(),
        Ok(plan) => {
            let (failing, _) = crate::plan::failing(&plan);
            let errors = failing.iter().map(|report| said(report, DiagnosticSeverity::ERROR));
            errors.chain(plan.warnings.iter().map(|report| said(report, DiagnosticSeverity::WARNING))).collect()
        }
    }
}

/// What a sentence does.
fn hover(document: &Document, place: usize) -> Option<Hover> {
    let quoted = document.quoted_at(place)?;
    quoted.sentence()?;
    let text = quoted.decoded(&document.text, quoted.at.end);
    let says = rockrose_language::explain(&text).ok()?;
    let contents = HoverContents::Markup(MarkupContent { kind: MarkupKind::PlainText, value: says });
    Some(Hover { contents, range: Some(document.span(&quoted.at)) })
}

/// The section that is named at a place: a recipe or a table in a sentence, a source or destination of a route.
fn definition(document: &Document, place: usize, uri: &str) -> Option<Location> {
    let quoted = document.quoted_at(place)?;
    let inside = |c: char| c.is_alphanumeric() || matches!(c, '_' | '-');
    let text = &document.text[quoted.at.clone()];
    let at = place - quoted.at.start;
    let start = text[..at].rfind(|c| !inside(c)).map_or(0, |n| n + text[n..].chars().next().map_or(1, char::len_utf8));
    let end = text[at..].find(|c| !inside(c)).map_or(text.len(), |n| at + n);
    let name = &text[start..end];
    let kinds: &[&str] = match (quoted.sentence(), quoted.key.as_str()) {
        (Some(_), _) => &["recipe", "table"],
        (None, "to") => &["destination"],
        (None, "from" | "source") => &["source"],
        _ => &[],
    };
    let section = kinds.iter().find_map(|kind| document.section(kind, name))?;
    Some(Location { uri: uri.parse().ok()?, range: document.span(&section.at) })
}

/// The canonical form, in place of the whole text; nothing, while the plan has mistakes.
fn formatting(document: &Document) -> Option<Vec<TextEdit>> {
    let canonical = rockrose_plan::canonical(&document.text).ok()?;
    if canonical == document.text {
        return Some(Vec::new());
    }
    Some(vec![TextEdit { range: document.span(&(0..document.text.len())), new_text: canonical }])
}

/// Names of the plan's sections of a kind, in a list of names.
fn names(document: &Document, quoted: &Quoted, place: usize, kind: &str) -> Vec<CompletionItem> {
    let written = &document.text[quoted.at.start..place];
    let range = document.span(&(quoted.at.start..place));
    let all = document.names(kind).into_iter().filter(|name| name.starts_with(written));
    let item = |name: String| CompletionItem {
        label: name.clone(),
        kind: Some(CompletionItemKind::REFERENCE),
        text_edit: Some(CompletionTextEdit::Edit(TextEdit { range, new_text: name })),
        ..CompletionItem::default()
    };
    all.map(item).collect()
}

/// The keys of the section at a place, where a line begins.
fn keys(document: &Document, place: usize) -> Vec<CompletionItem> {
    let line = document.text[..place].rsplit('\n').next().unwrap_or_default();
    if !line.trim_start().chars().all(|c| c.is_ascii_alphanumeric() || c == '_') {
        return Vec::new();
    }
    let schema = rockrose_plan::schema();
    let of = &schema["properties"][document.section_at(place).kind.as_str()];
    let properties = of["additionalProperties"]["properties"].as_object().or_else(|| of["items"]["properties"].as_object());
    let item = |(name, about): (&String, &Value)| CompletionItem {
        label: name.clone(),
        kind: Some(CompletionItemKind::PROPERTY),
        detail: about["description"].as_str().map(str::to_owned),
        insert_text: Some(format!("{name} = ")),
        ..CompletionItem::default()
    };
    properties.into_iter().flatten().filter(|(name, _)| name.starts_with(line.trim_start())).map(item).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = "[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\non_arrival = ['use own']\n[recipe.own]\nsteps = ['trim message to 1 KB']\n[destination.desk]\nkind = \"discard\"\n\
        [[route]]\nname = \"all\"\nwhen = 'severity >= warn'\nto = [\"desk\"]\n";

    fn server() -> Server {
        let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
        Server { client: None, handle: runtime.handle().clone(), documents: HashMap::new() }
    }

    fn open(server: &mut Server, text: &str) -> Vec<Value> {
        let params = json!({ "textDocument": { "uri": "file:///plan.toml", "languageId": "toml", "version": 1, "text": text } });
        let said = server.noted(Notification { method: "textDocument/didOpen".into(), params });
        said.into_iter().next().unwrap().params["diagnostics"].as_array().unwrap().clone()
    }

    fn ask(server: &Server, method: &str, text: &str, behind: &str) -> Value {
        let position = Document::new(text.to_owned()).position(text.find(behind).unwrap() + behind.len());
        let params = json!({ "textDocument": { "uri": "file:///plan.toml" }, "position": position });
        let request = Request { id: 1.into(), method: format!("textDocument/{method}"), params };
        serde_json::to_value(server.answer(request)).unwrap()["result"].clone()
    }

    fn labels(result: &Value) -> Vec<String> {
        result.as_array().unwrap().iter().map(|item| item["label"].as_str().unwrap().to_owned()).collect()
    }

    #[test]
    fn a_plan_is_checked_as_it_is_written() {
        let mut server = server();
        assert_eq!(open(&mut server, PLAN), Vec::<Value>::new());
        let wrong = open(&mut server, &PLAN.replace("severity >= warn", "severity >> warn"));
        assert_eq!((wrong.len(), &wrong[0]["severity"], &wrong[0]["range"]["start"]), (1, &json!(1), &json!({ "line": 10, "character": 18 })), "{wrong:?}");
        let params = json!({ "textDocument": { "uri": "file:///plan.toml", "version": 2 }, "contentChanges": [{ "text": PLAN.replace("to = [\"desk\"]", "to = [\"desc\"]") }] });
        let said = server.noted(Notification { method: "textDocument/didChange".into(), params });
        assert!(said[0].params["diagnostics"].to_string().contains("did you mean `desk`?"), "{said:?}");
        let closed = server.noted(Notification { method: "textDocument/didClose".into(), params: json!({ "textDocument": { "uri": "file:///plan.toml" } }) });
        assert_eq!((closed[0].params["diagnostics"].as_array().unwrap().len(), server.documents.len()), (0, 0));
    }

    #[test]
    fn what_may_stand_there_is_offered_and_written_as_its_place_needs_it() {
        let mut server = server();
        open(&mut server, PLAN);
        assert_eq!(labels(&ask(&server, "completion", PLAN, "'use ")), ["own"]);
        assert_eq!(labels(&ask(&server, "completion", PLAN, "to = [\"")), ["desk"]);
        assert!(labels(&ask(&server, "completion", PLAN, "severity >= ")).contains(&"error".to_owned()));
        // A text that is not closed yet.
        let open_text = PLAN.replace("when = 'severity >= warn'", "when = \"path starts ");
        open(&mut server, &open_text);
        let item = &ask(&server, "completion", &open_text, "path starts ")[0];
        assert_eq!((&item["label"], &item["textEdit"]["newText"]), (&json!("with"), &json!("with")));
        let keys_at = PLAN.replace("[recipe.own]", "ma\n[recipe.own]");
        open(&mut server, &keys_at);
        assert!(labels(&ask(&server, "completion", &keys_at, "\nma")).contains(&"max_event".to_owned()));
    }

    #[test]
    fn sentences_are_explained_names_are_found_and_the_text_is_formatted() {
        let mut server = server();
        open(&mut server, PLAN);
        assert!(ask(&server, "hover", PLAN, "'severity")["contents"]["value"].as_str().unwrap().contains("severity"));
        assert_eq!(ask(&server, "hover", PLAN, "kind = \"ht"), Value::Null);
        assert_eq!(ask(&server, "definition", PLAN, "'use ow")["range"]["start"]["line"], 4);
        assert_eq!(ask(&server, "definition", PLAN, "to = [\"de")["range"]["start"]["line"], 6);
        let uneven = PLAN.replace("kind = \"discard\"", "kind   =   \"discard\"");
        open(&mut server, &uneven);
        assert_eq!(ask(&server, "formatting", &uneven, "kind")[0]["newText"], json!(PLAN));
        let other = Request { id: 1.into(), method: "textDocument/rename".into(), params: json!({}) };
        assert_eq!(serde_json::to_value(server.answer(other)).unwrap()["error"]["code"], -32_601);
    }
}
