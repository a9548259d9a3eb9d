//! Signing in through a company's OpenID Connect provider: the authorization code flow with PKCE.
//!
//! - [`Settings`] are read from a file: who the provider is, and as what it knows this service.
//! - [`Provider::begin`] says where a browser is sent, and [`Provider::finish`] whose account it came back with.
//! - [`Journeys`] ties the way back to the browser that set out, without remembering anything of it here.
//! - [`standin`] is a small provider for tests and trials.
//!
//! What it does not do: it knows no people of this service and makes no sessions, and it keeps no token of the provider.

mod journey;
mod provider;
mod settings;
pub mod standin;

pub use journey::{Journey, Journeys};
pub use provider::{Account, OpenIdError, Provider};
pub use settings::Settings;

#[cfg(test)]
mod tests;
