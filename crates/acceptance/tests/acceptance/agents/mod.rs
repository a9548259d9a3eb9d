//! Agents: a host enrols with one line, collects what the plan says by its facts, and loses nothing; who is not who they say they are changes nothing.

mod assignments;
mod collecting;
mod in_the_browser;
mod protocol;
mod setup;
mod stages;
mod updates;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use diesel::prelude::*;
use rockrose_opamp::{
    AgentConfigFile, AgentConfigMap, AgentDescription, AgentRemoteConfig, AgentToServer, ComponentHealth, KeyValue, Message, RemoteConfigStatus,
    RemoteConfigStatuses, ServerToAgent, agent_capabilities, server_to_agent_flags,
};
use rockrose_opamp::{framed, unframed};
use serde_json::{Value, json};

use crate::harness::{Node, Running, binary, free_ports, lines, spawn, sum, text, until};

/// An agent on this machine, in a folder of the service's.
struct Host {
    name: String,
    data: PathBuf,
    running: Option<Running>,
}

impl Host {
    /// A host that has not enrolled.
    fn new(node: &Node, name: &str) -> Host {
        Host { name: name.to_owned(), data: node.path(name), running: None }
    }

    /// Enrols with the line that was made, and with `more`; does not run.
    fn enrol(&self, line: &str, more: &[&str]) -> Output {
        let args = line.strip_prefix("rockrose ").unwrap().split(' ');
        let data = self.data.to_str().unwrap();
        Command::new(binary()).args(args).args(["--data", data, "--name", &self.name, "--only"]).args(more).stdin(Stdio::null()).output().unwrap()
    }

    /// Enrols, which must succeed, and runs.
    fn join(node: &Node, name: &str, group: &str, more: &[&str]) -> Host {
        let mut host = Host::new(node, name);
        let enrolled = host.enrol(&code(node, group), more);
        assert!(enrolled.status.success(), "{}", text(&enrolled.stderr));
        host.begin();
        host
    }

    fn begin(&mut self) {
        self.running = Some(spawn(&["agent", "run", "--data", self.data.to_str().unwrap()], &self.data.with_extension("log")));
    }

    fn kill(&mut self) {
        drop(self.running.take());
    }

    async fn stop(&mut self) {
        let mut running = self.running.take().unwrap();
        running.signal("TERM");
        assert!(until("the agent ends", async || running.0.try_wait().unwrap()).await.success());
    }

    /// What `agent status` prints.
    fn status(&self) -> String {
        let output = Command::new(binary()).args(["agent", "status", "--data", self.data.to_str().unwrap()]).output().unwrap();
        format!("{}{}", text(&output.stdout), text(&output.stderr))
    }

    fn json_status(&self) -> Value {
        let output = Command::new(binary()).args(["agent", "status", "--json", "--data", self.data.to_str().unwrap()]).output().unwrap();
        serde_json::from_slice(&output.stdout).unwrap()
    }

    fn log(&self) -> String {
        std::fs::read_to_string(self.data.with_extension("log")).unwrap_or_default()
    }
}

/// A line that enrols one host.
fn code(node: &Node, group: &str) -> String {
    node.json(&["agent", "code", group])["line"].as_str().unwrap().to_owned()
}

fn door(port: u16, out: &Path, more: &str) -> String {
    let out = out.display();
    format!(
        "[source.hosts]\nkind = \"agents\"\nlisten = \"127.0.0.1:{port}\"\n[destination.out]\nkind = \"file\"\npath = \"{out}\"\n[[route]]\nname = \"all\"\nto = [\"out\"]\n{more}"
    )
}

fn collect(name: &str, paths: &str) -> String {
    format!("[collect.{name}]\nkind = \"file\"\npaths = [\"{paths}\"]\nbegin_at = \"start\"\n")
}

async fn agent(node: &Node, name: &str) -> Value {
    node.get("/api/v1/agents").await["agents"].as_array().unwrap().iter().find(|a| a["name"] == name).unwrap_or(&Value::Null).clone()
}

async fn becomes(node: &Node, name: &str, condition: &str) -> Value {
    until(&format!("{name} is {condition}"), async || Some(agent(node, name).await).filter(|a| a["condition"] == condition)).await
}

fn append(path: &Path, lines: impl IntoIterator<Item = String>) {
    let mut file = std::fs::OpenOptions::new().create(true).append(true).open(path).unwrap();
    lines.into_iter().for_each(|line| file.write_all(format!("{line}\n").as_bytes()).unwrap());
}

/// Another program that does the same: the one that is tested, with something behind it that nobody reads.
fn another_program(path: &Path, mark: &str) {
    std::fs::copy(binary(), path).unwrap();
    let mut file = std::fs::OpenOptions::new().append(true).open(path).unwrap();
    file.write_all(mark.as_bytes()).unwrap();
}

/// A service that gives agents another program than its own: `given`, in its folder.
async fn with_another_program() -> Node {
    Node::start_with(|folder| {
        let program = folder.join("given");
        another_program(&program, "second");
        vec!["--agent-program".to_owned(), program.display().to_string()]
    })
    .await
}

/// The change that is on its way to hosts.
async fn stage(node: &Node) -> Value {
    node.get("/api/v1/agents").await["stage"].clone()
}
