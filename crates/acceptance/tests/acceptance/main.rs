//! The real binary, met as its users meet it: over HTTP, on the command line, in a browser; and killed while it works.
#![allow(clippy::unwrap_used, missing_docs, reason = "tests say what failed by panicking")]

mod agents;
mod alerts;
mod api;
mod browser;
mod budgets;
mod by_tag;
mod client;
mod console;
mod console_deliveries;
mod console_events;
mod console_ledger;
mod console_plan;
mod console_sources;
mod console_states;
mod crash;
mod demo;
mod disk;
mod faults;
mod files;
mod grants;
mod harness;
mod hostile;
mod language_server;
mod people;
mod plan;
mod queues;
mod secrecy;
mod signals;
mod sites;
mod sources;
mod survey;
mod trial;
mod windows;
