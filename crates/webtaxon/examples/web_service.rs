//! A page of the application's administration: it previews, and applies what it showed:
//! `cargo run --example web_service -- webtaxon.toml`.
//!
//! `GET /preview` returns the preview as JSON, and keeps its work. `POST /apply` carries out that work, once, and
//! nothing that came up since; its body names the brakes to release, one a line. If the browser hangs up in between,
//! the apply is finished and recorded all the same.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use axum::Router;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use std::sync::{Arc, Mutex, PoisonError};
use webtaxon::apply::{Consent, Work};
use webtaxon::{Error, Workspace, report};

#[derive(Clone)]
struct Page {
    workspace: Workspace,
    shown: Arc<Mutex<Option<Work>>>,
}

impl Page {
    /// The work shown, which is kept if its brakes are not released.
    fn take(&self, consent: &Consent) -> Result<Option<Work>, Error> {
        let mut shown = self.shown.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(work) = &*shown {
            self.workspace.may_apply(work, consent)?;
        }
        Ok(shown.take())
    }
}

/// A failed run, as the administrator should see it.
struct Failed(Error);

impl From<Error> for Failed {
    fn from(error: Error) -> Self {
        Self(error)
    }
}

impl IntoResponse for Failed {
    fn into_response(self) -> Response {
        let remedy = miette::Diagnostic::help(&self.0).map(|help| help.to_string()).unwrap_or_default();
        (StatusCode::BAD_GATEWAY, format!("{}\n{remedy}\n", self.0)).into_response()
    }
}

async fn preview(State(page): State<Page>) -> Result<Response, Failed> {
    let (preview, work) = page.workspace.work().await?;
    let document = report::preview(&preview).to_string();
    *page.shown.lock().unwrap_or_else(PoisonError::into_inner) = Some(work);
    Ok(([(header::CONTENT_TYPE, "application/json")], document).into_response())
}

async fn apply(State(page): State<Page>, release: String) -> Result<Response, Failed> {
    let who = "the administration page".to_owned();
    let consent = Consent { who, release: release.lines().map(str::to_owned).collect(), stop_after: None };
    let Some(work) = page.take(&consent)? else {
        return Ok((StatusCode::CONFLICT, "look at /preview first\n").into_response());
    };
    let applied = page.workspace.apply(&work, &consent).await?;
    Ok(format!("{} edits, complete: {}\n", work.edits().len(), applied.is_complete()).into_response())
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let file = std::env::args().nth(1).unwrap_or_else(|| "webtaxon.toml".to_owned());
    let page = Page { workspace: Workspace::open(file)?, shown: Arc::default() };
    let service = Router::new().route("/preview", get(preview)).route("/apply", post(apply)).with_state(page);
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    println!("http://{}", listener.local_addr()?);
    axum::serve(listener, service).await?;
    Ok(())
}
