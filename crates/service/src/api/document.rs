//! Completes the OpenAPI document: what every call may answer is told here once, not at each handler.
//!
//! A handler tells what it answers when all goes well, and the refusals that are its own. Here each answer gets a description, each refusal becomes a problem
//! document (`application/problem+json`, RFC 9457), and what any call may be refused with is added.

use utoipa::openapi::path::Operation;
use utoipa::openapi::{Content, OpenApi, Ref, RefOr, Response, ResponseBuilder};

/// What refusals are written as.
const PROBLEM: &str = "application/problem+json";

/// Every call: who asks is not known, it failed on this side, or what it needs cannot be had now.
const ANY: [&str; 3] = ["401", "500", "503"];
/// A call that changes something: a session from another site is refused.
const CHANGING: [&str; 1] = ["403"];
/// A call with a query or with parameters in its path.
const ASKED: [&str; 1] = ["400"];
/// A call with a body: it cannot be read, is too large, is not JSON, or is JSON of another shape.
const BODY: [&str; 4] = ["400", "413", "415", "422"];

fn description(status: &str) -> &'static str {
    match status {
        "200" => "The answer.",
        "201" => "It was made.",
        "204" => "Done; no content.",
        "400" => "The request is malformed.",
        "401" => "Not authenticated, or the token or session is unknown or has expired.",
        "403" => "The request came from another origin than the console's.",
        "404" => "Not found.",
        "409" => "Conflict: the resource is in another state, or was changed meanwhile.",
        "413" => "The body is too large.",
        "415" => "The body is not `application/json`.",
        "422" => "The body is valid JSON but not of the expected form, or the plan in it has mistakes.",
        "500" => "Internal error.",
        "503" => "Temporarily unavailable; try again later.",
        _ => "Another answer.",
    }
}

fn is_refusal(status: &str) -> bool {
    status.starts_with('4') || status.starts_with('5')
}

fn refusal(status: &str) -> Response {
    let problem = Content::new(Some(RefOr::Ref(Ref::from_schema_name("Problem"))));
    ResponseBuilder::new().description(description(status)).content(PROBLEM, problem).build()
}

/// Completes the document.
pub(super) fn complete(document: &mut OpenApi) {
    for item in document.paths.paths.values_mut() {
        if let Some(operation) = &mut item.get {
            complete_call(operation, false);
        }
        for operation in [&mut item.put, &mut item.post, &mut item.delete].into_iter().flatten() {
            complete_call(operation, true);
        }
    }
}

fn complete_call(operation: &mut Operation, changes: bool) {
    let mut refused: Vec<&str> = ANY.to_vec();
    if changes {
        refused.extend(CHANGING);
    }
    if operation.parameters.as_ref().is_some_and(|p| !p.is_empty()) {
        refused.extend(ASKED);
    }
    if operation.request_body.is_some() {
        refused.extend(BODY);
    }
    let responses = &mut operation.responses.responses;
    for (status, response) in responses.iter_mut() {
        match response {
            RefOr::T(_) if is_refusal(status) => *response = RefOr::T(refusal(status)),
            RefOr::T(response) if response.description.is_empty() => response.description = description(status).to_owned(),
            _ => {}
        }
    }
    for status in refused {
        responses.entry(status.to_owned()).or_insert_with(|| RefOr::T(refusal(status)));
    }
}

#[cfg(test)]
mod tests {
    use serde_json::Value;

    #[test]
    fn every_answer_is_described_and_every_refusal_is_a_problem_document() {
        let document: Value = serde_json::from_str(&crate::openapi().to_json().unwrap()).unwrap();
        let mut calls = 0;
        for (path, item) in document["paths"].as_object().unwrap() {
            for (method, call) in item.as_object().unwrap() {
                let Some(responses) = call["responses"].as_object() else { panic!("{method} {path} tells no answers") };
                calls += 1;
                for (status, response) in responses {
                    assert!(response["description"].as_str().is_some_and(|d| d.ends_with('.')), "{method} {path} {status}");
                    if super::is_refusal(status) {
                        assert_eq!(response["content"][super::PROBLEM]["schema"]["$ref"], "#/components/schemas/Problem", "{method} {path} {status}");
                    }
                }
                assert!(["401", "500", "503"].iter().all(|s| responses.contains_key(*s)), "{method} {path}");
                assert_eq!(responses.contains_key("413"), call.get("requestBody").is_some(), "{method} {path}");
            }
        }
        assert!(calls > 30, "{calls} calls");
    }
}
