//! The language server, as an editor speaks to it: over standard input and output, beside a running service.

use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use serde_json::{Value, json};

use crate::harness::{Node, binary, free_ports, post, until};

struct Editor {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    asked: u64,
}

impl Editor {
    fn new(node: &Node) -> Editor {
        let mut command = Command::new(binary());
        command.args(["language-server", "--address", &node.url(""), "--token", &node.token()]);
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let (input, output) = (child.stdin.take().unwrap(), BufReader::new(child.stdout.take().unwrap()));
        Editor { child, input, output, asked: 0 }
    }

    fn send(&mut self, message: &Value) {
        let text = message.to_string();
        write!(self.input, "Content-Length: {}\r\n\r\n{text}", text.len()).unwrap();
        self.input.flush().unwrap();
    }

    fn tell(&mut self, method: &str, params: &Value) {
        self.send(&json!({ "jsonrpc": "2.0", "method": method, "params": params }));
    }

    fn next(&mut self) -> Value {
        let mut length = 0;
        loop {
            let mut line = String::new();
            assert!(self.output.read_line(&mut line).unwrap() > 0, "the server has ended");
            match line.trim().strip_prefix("Content-Length: ") {
                Some(said) => length = said.parse().unwrap(),
                None if line.trim().is_empty() => break,
                None => {}
            }
        }
        let mut body = vec![0; length];
        self.output.read_exact(&mut body).unwrap();
        serde_json::from_slice(&body).unwrap()
    }

    fn ask(&mut self, method: &str, params: &Value) -> Value {
        self.asked += 1;
        self.send(&json!({ "jsonrpc": "2.0", "id": self.asked, "method": method, "params": params }));
        loop {
            let told = self.next();
            if told["id"] == self.asked {
                return told["result"].clone();
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_editor_is_offered_what_the_service_has_seen() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let plan = format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.desk]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nwhen = 'severity >= warn'\nto = [\"desk\"]\n"
    );
    node.apply(&plan);
    let sampled = async || {
        assert_eq!(post(&node.http, source, "{\"level\":\"warn\",\"gangway\":\"Tansy Quay\"}\n".repeat(20)).await.status(), 200);
        (node.get("/api/v1/sample?point=source:quays").await["kept"].as_u64().unwrap() > 0).then_some(())
    };
    until("there is a sample", sampled).await;
    let mut editor = Editor::new(&node);
    let told = editor.ask("initialize", &json!({ "processId": null, "rootUri": null, "capabilities": {} }));
    assert!(told["capabilities"]["completionProvider"].is_object() && told["serverInfo"]["name"] == "rockrose", "{told}");
    editor.tell("initialized", &json!({}));
    let uri = "file:///plans/plan.toml";
    let document = |text: &str| json!({ "textDocument": { "uri": uri, "languageId": "toml", "version": 1, "text": text } });
    editor.tell("textDocument/didOpen", &document(&plan.replace("severity >= warn", "gang")));
    let said = editor.next();
    assert_eq!(
        (&said["method"], &said["params"]["diagnostics"][0]["range"]["start"]),
        (&json!("textDocument/publishDiagnostics"), &json!({ "line": 7, "character": 12 }))
    );
    let at = |character: u32| json!({ "textDocument": { "uri": uri }, "position": { "line": 7, "character": character } });
    let offered = editor.ask("textDocument/completion", &at(12));
    assert_eq!((&offered[0]["label"], &offered[0]["detail"]), (&json!("gangway"), &json!("in 100.0 % of the events")), "{offered}");
    assert_eq!(offered[0]["textEdit"]["range"], json!({ "start": { "line": 7, "character": 8 }, "end": { "line": 7, "character": 12 } }));
    editor.tell("textDocument/didOpen", &document(&plan.replace("severity >= warn", "gangway = ")));
    let offered = editor.ask("textDocument/completion", &at(18));
    assert_eq!(offered[0]["textEdit"]["newText"], json!("\"Tansy Quay\""), "{offered}");
    // Without the service the language is still known.
    node.stop().await;
    editor.tell("textDocument/didOpen", &document(&plan.replace("severity >= warn", "severity >= ")));
    let offered = editor.ask("textDocument/completion", &at(20));
    assert!(offered.as_array().unwrap().iter().any(|item| item["label"] == "error"), "{offered}");
    assert_eq!(editor.ask("shutdown", &Value::Null), Value::Null);
    editor.tell("exit", &Value::Null);
    assert!(editor.child.wait().unwrap().success());
}
