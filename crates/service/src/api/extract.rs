//! Parts of a request, read with problem documents for what cannot be read.

use axum::Json;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::StatusCode;
use rockrose_intake::Problem;
use serde::de::DeserializeOwned;
use serde_json::{Number, Value};

/// A JSON body: an object, as its schema has it.
pub(crate) struct Body<T>(pub(crate) T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Body<T>, Problem> {
        let Json(mut body) = Json::<Value>::from_request(request, state).await?;
        let bad = |why: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-body", "The body cannot be read", why);
        if !body.is_object() {
            return Err(bad("not a JSON object".to_owned()));
        }
        whole_numbers(&mut body);
        serde_json::from_value(body).map(Body).map_err(|e| bad(e.to_string()))
    }
}

/// Makes integers of numbers such as `7.0`, which are integers to JSON Schema.
fn whole_numbers(value: &mut Value) {
    match value {
        Value::Array(items) => items.iter_mut().for_each(whole_numbers),
        Value::Object(members) => members.values_mut().for_each(whole_numbers),
        Value::Number(number) => {
            // Doubles below 2^53 are exact.
            let whole = number.as_f64().filter(|n| number.is_f64() && n.fract() == 0.0 && n.abs() < 9_007_199_254_740_992.0);
            if let Some(whole) = whole {
                *number = Number::from(whole as i64);
            }
        }
        _ => {}
    }
}

/// The query's parameters.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(Problem))]
pub(crate) struct Asked<T>(pub(crate) T);

/// A part of the path.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(Problem))]
pub(crate) struct Part<T>(pub(crate) T);

#[cfg(test)]
mod tests {
    use rockrose_api::ResendRequest;

    use super::*;

    async fn read(body: &'static str) -> Result<ResendRequest, Problem> {
        let request = Request::post("/").header("content-type", "application/json").body(body.into()).unwrap();
        Body::from_request(request, &()).await.map(|Body(read)| read)
    }

    #[tokio::test]
    async fn a_body_is_an_object_with_what_its_schema_allows() {
        assert_eq!(read(r#"{"ids":[7,8.0,-9e1]}"#).await.unwrap().ids, Some(vec![7, 8, -90]));
        for (body, status, says) in [
            ("[null,null]", 422, "not a JSON object"),
            (r#"{"ids":[7.5]}"#, 422, "expected i64"),
            (r#"{"ids":["7"]}"#, 422, "expected i64"),
            (r#"{"ids":[1e300]}"#, 422, "expected i64"),
            ("{", 400, "parse"),
        ] {
            let problem = read(body).await.unwrap_err();
            assert!(problem.status().as_u16() == status && problem.detail().contains(says), "{body}: {problem:?}");
        }
    }
}
