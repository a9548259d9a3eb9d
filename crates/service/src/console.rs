//! The console's files, built into the binary.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::{Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use rockrose_intake::Problem;
use rust_embed::RustEmbed;

use crate::App;
use crate::api::auth::who;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// Serves a file of the console; any other path is one of its pages, which says whether the browser is signed in, so that it need not find out by being refused.
pub(crate) async fn serve(State(app): State<Arc<App>>, request: Request) -> Response {
    let (uri, headers) = (request.uri(), request.headers());
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return Problem::not_found(format!("there is no `/{path}`")).into_response();
    }
    if let Some(file) = Files::get(path).filter(|_| path != "index.html") {
        let kind = kind_of(path);
        // A built file's name changes with its content.
        return ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, "public, max-age=31536000, immutable")], file.data.into_owned()).into_response();
    }
    if path.contains('.') {
        return Problem::not_found(format!("there is no `/{path}`")).into_response();
    }
    let Some(page) = Files::get("index.html") else { return (StatusCode::NOT_FOUND, "the console was not built").into_response() };
    let page = String::from_utf8_lossy(&page.data).into_owned();
    let page =
        if who(&app, &Method::GET, headers, request.extensions()).await.is_ok() { page } else { page.replacen("<html ", "<html data-session=\"none\" ", 1) };
    ([(header::CONTENT_TYPE, "text/html; charset=utf-8"), (header::CACHE_CONTROL, "no-store")], page).into_response()
}

fn kind_of(path: &str) -> &'static str {
    match path.rsplit('.').next().unwrap_or_default() {
        "js" => "text/javascript; charset=utf-8",
        "css" => "text/css; charset=utf-8",
        "svg" => "image/svg+xml",
        "woff2" => "font/woff2",
        "png" => "image/png",
        "json" => "application/json",
        "html" => "text/html; charset=utf-8",
        _ => "application/octet-stream",
    }
}
