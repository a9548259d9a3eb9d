//! The open protocol: agents of another make here, and ours at a server of another make.

use super::*;

/// An agent of another make, which speaks the open protocol with a code.
struct Other {
    http: reqwest::Client,
    endpoint: String,
    bearer: String,
}

impl Other {
    fn new(node: &Node) -> Other {
        let made = node.json(&["agent", "code", "sdk"]);
        let of = |member: &str| made[member].as_str().unwrap().to_owned();
        let authority = reqwest::Certificate::from_pem(of("authority").as_bytes()).unwrap();
        // Only what was given is trusted, and nothing of the system.
        let http = reqwest::Client::builder().no_proxy().tls_certs_only([authority]).build().unwrap();
        Other { http, endpoint: of("endpoint"), bearer: of("bearer") }
    }

    async fn post(&self, bearer: Option<&str>, body: Vec<u8>) -> reqwest::Response {
        let request = self.http.post(&self.endpoint).header("content-type", "application/x-protobuf").body(body);
        bearer.into_iter().fold(request, |request, bearer| request.bearer_auth(bearer)).send().await.unwrap()
    }

    async fn says(&self, message: &AgentToServer) -> ServerToAgent {
        let answer = self.post(Some(&self.bearer), message.encode_to_vec()).await;
        assert_eq!(answer.status(), 200);
        ServerToAgent::decode(&*answer.bytes().await.unwrap()).unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn agents_of_another_make_are_managed_by_the_open_protocol_and_strangers_change_nothing() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let text_of =
        |content: &str| format!("[assignment.sdk]\nwhen = 'service.name = \"booking-site\"'\ntext = '{content}'\ncontent_type = \"application/json\"\n");
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("{\"sampling\":1}")));
    let other = Other::new(&node);
    let description = AgentDescription {
        identifying_attributes: vec![KeyValue::text("service.name", "booking-site"), KeyValue::text("host.name", "booking-3")],
        ..AgentDescription::default()
    };
    let full = AgentToServer {
        instance_uid: vec![7; 16],
        agent_description: Some(description.clone()),
        capabilities: agent_capabilities::REPORTS_STATUS | agent_capabilities::ACCEPTS_REMOTE_CONFIG,
        ..AgentToServer::default()
    };
    let bare = |sequence_num: u64| AgentToServer { instance_uid: vec![7; 16], sequence_num, capabilities: full.capabilities, ..AgentToServer::default() };

    // Whoever shows nothing, or another code, is a stranger.
    assert_eq!(other.post(None, full.encode_to_vec()).await.status(), 401);
    assert_eq!(other.post(Some("4f02"), full.encode_to_vec()).await.status(), 401);
    assert_eq!(other.post(Some(&other.bearer), vec![0xff; 40]).await.status(), 400, "not a message");
    // Too much to be one is answered before it was sent, or cut off.
    let large =
        other.http.post(&other.endpoint).header("content-type", "application/x-protobuf").bearer_auth(&other.bearer).body(vec![0; 600_000]).send().await;
    assert!(large.map_or(true, |answer| answer.status() == 413));
    assert_eq!(agent(&node, "booking-3").await, Value::Null);

    let answer = other.says(&full).await;
    let given = answer.remote_config.expect("what is assigned");
    let files = given.config.unwrap().config_map;
    assert_eq!((files["sdk"].body.as_slice(), files["sdk"].content_type.as_str()), (&b"{\"sampling\":1}"[..], "application/json"));
    let status = |hash: &[u8], status: RemoteConfigStatuses, error: &str| {
        Some(RemoteConfigStatus { last_remote_config_hash: hash.to_vec(), status: status as i32, error_message: error.to_owned() })
    };
    let applied = AgentToServer { remote_config_status: status(&given.config_hash, RemoteConfigStatuses::Applied, ""), ..bare(1) };
    let answer = other.says(&applied).await;
    assert!(answer.remote_config.is_none() && answer.flags == 0, "it has it: {answer:?}");
    becomes(&node, "booking-3", "fine").await;
    assert_eq!(other.says(&bare(2)).await.flags, 0);
    // It does not show files; and it may be unwell as a whole.
    let unseen = node.client(&["agent", "look", "booking-3"]);
    assert!(text(&unseen.stderr).contains("or it is an agent of another make"), "{}", text(&unseen.stderr));
    let health = |healthy: bool, last_error: &str| Some(ComponentHealth { healthy, last_error: last_error.to_owned(), ..ComponentHealth::default() });
    other.says(&AgentToServer { health: health(false, "no berth for its exporter"), ..bare(3) }).await;
    assert_eq!(becomes(&node, "booking-3", "trouble").await["says"], "no berth for its exporter");
    other.says(&AgentToServer { health: health(true, ""), ..bare(4) }).await;
    becomes(&node, "booking-3", "fine").await;
    assert_eq!(other.says(&bare(9)).await.flags, server_to_agent_flags::REPORT_FULL_STATE, "some words were lost");

    // It cannot take what it is given next, and says why. It is not given it again and again.
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("{\"sampling\":7}")));
    let given = other.says(&bare(10)).await.remote_config.expect("what is assigned now");
    let failed: AgentToServer =
        AgentToServer { remote_config_status: status(&given.config_hash, RemoteConfigStatuses::Failed, "sampling is at most 1"), ..bare(11) };
    assert!(other.says(&failed).await.remote_config.is_none());
    let refused = becomes(&node, "booking-3", "refused").await;
    assert!(refused["says"].as_str().unwrap().contains("sampling is at most 1"), "{refused}");

    // It is known after a restart of the service, and by its code and id together.
    node.kill();
    node.begin().await;
    let answer = other.says(&bare(12)).await;
    assert!(
        answer.remote_config.is_none() && answer.flags == server_to_agent_flags::REPORT_FULL_STATE,
        "nothing is given before it is known for whom: {answer:?}"
    );
    let again = AgentToServer { sequence_num: 13, agent_description: Some(description.clone()), ..failed };
    assert!(other.says(&again).await.remote_config.is_none());
    let claims = AgentToServer { instance_uid: vec![8; 16], ..full.clone() };
    assert_eq!(other.post(Some(&other.bearer), claims.encode_to_vec()).await.status(), 401, "the code is used up");
    // Facts without end are refused, and those of before stay.
    let large = AgentDescription { non_identifying_attributes: vec![KeyValue::text("os.type", &"x".repeat(200_000))], ..description };
    let answer = other.says(&AgentToServer { agent_description: Some(large), ..bare(14) }).await;
    assert!(answer.error_response.unwrap().error_message.contains("more than 65536"));
    assert_eq!(node.get("/api/v1/agents/booking-3").await["facts"]["os.type"], Value::Null);
    // Events are taken only from those that show a certificate.
    let posted = other.http.post(format!("https://127.0.0.1:{port}/in")).bearer_auth(&other.bearer).body("{}").send().await.unwrap();
    assert_eq!(posted.status(), 401);
    // Who guesses codes has to wait.
    let mut guesses = 0;
    while other.post(Some(&format!("guess{guesses}")), full.encode_to_vec()).await.status() != 429 {
        guesses += 1;
        assert!(guesses < 100);
    }
    node.stop().await;
}

/// A small server of another make, which manages our agent: what it gives next, and what it was told.
#[derive(Default)]
struct Manager {
    gives: std::sync::Mutex<Option<(Vec<u8>, String)>>,
    told: std::sync::Mutex<Vec<AgentToServer>>,
}

impl Manager {
    /// Begins to listen with a certificate of its own, which is returned.
    async fn start() -> (std::sync::Arc<Manager>, u16, String) {
        use tokio_rustls::rustls::ServerConfig;
        use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};

        let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned()]).unwrap();
        let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
        let _ = tokio_rustls::rustls::crypto::ring::default_provider().install_default();
        let config = ServerConfig::builder().with_no_client_auth().with_single_cert(vec![made.cert.der().clone()], key).unwrap();
        let acceptor = tokio_rustls::TlsAcceptor::from(std::sync::Arc::new(config));
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let manager = std::sync::Arc::new(Manager::default());
        let serving = std::sync::Arc::clone(&manager);
        tokio::spawn(async move {
            while let Ok((tcp, _)) = listener.accept().await {
                let (acceptor, manager) = (acceptor.clone(), std::sync::Arc::clone(&serving));
                tokio::spawn(async move {
                    let Ok(mut tls) = acceptor.accept(tcp).await else { return };
                    while manager.exchange(&mut tls).await.is_some() {}
                });
            }
        });
        (manager, port, made.cert.pem())
    }

    /// Answers one request over a connection.
    async fn exchange(&self, stream: &mut (impl tokio::io::AsyncRead + tokio::io::AsyncWrite + Unpin)) -> Option<()> {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};

        let mut bytes = Vec::new();
        let head = loop {
            let mut piece = [0; 4_096];
            let n = stream.read(&mut piece).await.ok().filter(|n| *n > 0)?;
            bytes.extend_from_slice(&piece[..n]);
            if let Some(end) = bytes.windows(4).position(|w| w == b"\r\n\r\n") {
                break end + 4;
            }
        };
        let header = String::from_utf8_lossy(&bytes[..head]).to_ascii_lowercase();
        let of = |name: &str| header.lines().find_map(|line| line.strip_prefix(&format!("{name}: ")).map(str::to_owned));
        let length: usize = of("content-length").unwrap().parse().unwrap();
        while bytes.len() < head + length {
            let mut piece = [0; 4_096];
            let n = stream.read(&mut piece).await.ok().filter(|n| *n > 0)?;
            bytes.extend_from_slice(&piece[..n]);
        }
        if of("authorization").as_deref() != Some("bearer harbour") {
            stream.write_all(b"HTTP/1.1 401 Unauthorized\r\ncontent-length: 0\r\n\r\n").await.ok()?;
            return Some(());
        }
        let says = AgentToServer::decode(&bytes[head..head + length]).unwrap();
        let has = says.remote_config_status.as_ref().map(|status| status.last_remote_config_hash.clone()).unwrap_or_default();
        let gives = self.gives.lock().unwrap().clone().filter(|(hash, _)| *hash != has);
        let file = |text: String| AgentConfigFile { body: text.into_bytes(), content_type: "application/toml".to_owned() };
        let remote_config = gives
            .map(|(hash, text)| AgentRemoteConfig { config_hash: hash, config: Some(AgentConfigMap { config_map: [("plan".to_owned(), file(text))].into() }) });
        let answer = ServerToAgent { instance_uid: says.instance_uid.clone(), remote_config, ..ServerToAgent::default() }.encode_to_vec();
        self.told.lock().unwrap().push(says);
        let head = format!("HTTP/1.1 200 OK\r\ncontent-type: application/x-protobuf\r\ncontent-length: {}\r\n\r\n", answer.len());
        stream.write_all(&[head.as_bytes(), &answer].concat()).await.ok()
    }

    /// Gives a plan; returns what became of it, and the words of that.
    async fn gives(&self, hash: &[u8], plan: String) -> (RemoteConfigStatuses, String) {
        *self.gives.lock().unwrap() = Some((hash.to_vec(), plan));
        until("the agent says what became of it", async || {
            let told = self.told.lock().unwrap();
            let status = told.last()?.remote_config_status.clone().filter(|status| status.last_remote_config_hash == hash)?;
            Some((status.status(), status.error_message))
        })
        .await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_agent_is_managed_by_a_server_of_another_make() {
    let node = Node::start().await;
    let (manager, port, certificate) = Manager::start().await;
    let (ca, out, log) = (node.write("other.pem", &certificate), node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"n\":1}".to_owned()]);
    let url = format!("https://127.0.0.1:{port}/v1/opamp");
    let mut host = Host::new(&node, "gate-1");
    let line = |code: &str| format!("rockrose agent enrol {url} {code} --elsewhere");
    // A token that is none, and a certificate that is not known.
    let refused = host.enrol(&line("4f02"), &["--ca", &ca]);
    assert!(!refused.status.success() && text(&refused.stderr).contains("refuses this agent"), "{}", text(&refused.stderr));
    assert!(!host.enrol(&line("harbour"), &[]).status.success());
    let enrolled = host.enrol(&line("harbour"), &["--ca", &ca]);
    assert!(enrolled.status.success(), "{}", text(&enrolled.stderr));
    host.begin();
    let plan = |collects: &str| {
        format!(
            "[source.log]\nkind = \"file\"\npaths = [\"{collects}\"]\nbegin_at = \"start\"\n[destination.out]\nkind = \"file\"\npath = \"{}\"\n[[route]]\nname = \"all\"\nto = [\"out\"]\n",
            out.display()
        )
    };
    assert_eq!(manager.gives(b"one", plan(log.to_str().unwrap())).await, (RemoteConfigStatuses::Applied, String::new()));
    until("the first event is there", async || (lines(&out).len() == 1).then_some(())).await;
    // A bad one is told back, and the one before goes on; over a restart the agent knows what it runs, and by which id.
    let (status, why) = manager.gives(b"two", plan(log.to_str().unwrap()).replace("\"file\"", "\"pigeon\"")).await;
    assert!(status == RemoteConfigStatuses::Failed && why.contains("pigeon"), "{why}");
    append(&log, ["{\"n\":2}".to_owned()]);
    until("the second event is there", async || (lines(&out).len() == 2).then_some(())).await;
    assert_eq!(manager.gives(b"three", plan(log.to_str().unwrap()).replace("to = ", "do = ['set three = 3']\nto = ")).await.0, RemoteConfigStatuses::Applied);
    host.stop().await;
    manager.told.lock().unwrap().clear();
    host.begin();
    let first = until("it says who it is", async || manager.told.lock().unwrap().first().cloned()).await;
    assert_eq!(first.remote_config_status.unwrap().last_remote_config_hash, b"three");
    let said = first.agent_description.unwrap().identifying_attributes;
    assert!(said.iter().any(|attribute| *attribute == KeyValue::text("agent.name", "gate-1")), "{said:?}");
    append(&log, ["{\"n\":3}".to_owned()]);
    until("the third event is there, shaped anew", async || lines(&out).iter().any(|l| l["n"] == 3 && l["three"] == 3).then_some(())).await;
    assert!(
        until("it is healthy", async || manager.told.lock().unwrap().last().and_then(|told| told.health.clone()).filter(|health| health.healthy)).await.healthy
    );
    host.stop().await;
}

type Socket = tokio_tungstenite::WebSocketStream<tokio_rustls::client::TlsStream<tokio::net::TcpStream>>;

/// A WebSocket to the source for agents, as an agent of another make opens it; or the status with which it is refused.
async fn connect(port: u16, authority: &str, bearer: Option<&str>) -> Result<Socket, u16> {
    use tokio_rustls::rustls::pki_types::pem::PemObject;
    use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName};
    use tokio_rustls::rustls::{ClientConfig, RootCertStore};

    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(authority.as_bytes()).unwrap()).unwrap();
    let _ = tokio_rustls::rustls::crypto::ring::default_provider().install_default();
    let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    let tcp = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
    let tls = tokio_rustls::TlsConnector::from(std::sync::Arc::new(config)).connect(ServerName::try_from("127.0.0.1").unwrap(), tcp).await.unwrap();
    let mut request = tokio_tungstenite::tungstenite::client::IntoClientRequest::into_client_request(format!("wss://127.0.0.1:{port}/v1/opamp")).unwrap();
    if let Some(bearer) = bearer {
        request.headers_mut().insert("authorization", format!("Bearer {bearer}").parse().unwrap());
    }
    match tokio_tungstenite::client_async(request, tls).await {
        Ok((socket, _)) => Ok(socket),
        Err(tokio_tungstenite::tungstenite::Error::Http(answer)) => Err(answer.status().as_u16()),
        Err(e) => panic!("{e}"),
    }
}

async fn tell(socket: &mut Socket, message: &AgentToServer) {
    use futures_util::SinkExt;
    socket.send(tokio_tungstenite::tungstenite::Message::Binary(framed(message).into())).await.unwrap();
}

/// The next message of the server; why it ended the connection, if it did.
async fn told(socket: &mut Socket) -> Result<ServerToAgent, String> {
    use futures_util::StreamExt;
    use tokio_tungstenite::tungstenite::Message as Frame;
    loop {
        let frame = tokio::time::timeout(std::time::Duration::from_secs(20), socket.next()).await.expect("an answer in time");
        match frame {
            Some(Ok(Frame::Binary(bytes))) => return Ok(unframed(&bytes).unwrap()),
            Some(Ok(Frame::Close(frame))) => return Err(frame.map(|frame| frame.reason.to_string()).unwrap_or_default()),
            Some(Ok(_)) => {}
            Some(Err(_)) | None => return Err("it is closed".to_owned()),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn over_a_websocket_agents_are_told_at_once_and_strangers_nothing() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let text_of =
        |content: &str| format!("[assignment.sdk]\nwhen = 'service.name = \"booking-site\"'\ntext = '{content}'\ncontent_type = \"application/json\"\n");
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("1")));
    let made = node.json(&["agent", "code", "sdk"]);
    let (authority, bearer) = (made["authority"].as_str().unwrap(), made["bearer"].as_str().unwrap());
    let description = AgentDescription {
        identifying_attributes: vec![KeyValue::text("service.name", "booking-site"), KeyValue::text("host.name", "booking-4")],
        ..AgentDescription::default()
    };
    let full = AgentToServer {
        instance_uid: vec![9; 16],
        agent_description: Some(description),
        capabilities: agent_capabilities::REPORTS_STATUS | agent_capabilities::ACCEPTS_REMOTE_CONFIG,
        ..AgentToServer::default()
    };
    // Whoever shows nothing gets no socket; who shows a code that is none, or says what is no message, is told why it ends.
    assert_eq!(connect(port, authority, None).await.unwrap_err(), 401);
    let mut stranger = connect(port, authority, Some("4f02")).await.unwrap();
    tell(&mut stranger, &full).await;
    assert!(told(&mut stranger).await.unwrap_err().contains("the code is unknown"));
    let mut garbled = connect(port, authority, Some(bearer)).await.unwrap();
    futures_util::SinkExt::send(&mut garbled, tokio_tungstenite::tungstenite::Message::Binary(vec![0xff; 40].into())).await.unwrap();
    assert!(told(&mut garbled).await.is_err());
    assert_eq!(agent(&node, "booking-4").await, Value::Null);

    let mut socket = connect(port, authority, Some(bearer)).await.unwrap();
    tell(&mut socket, &full).await;
    let given = told(&mut socket).await.unwrap().remote_config.expect("what is assigned");
    assert_eq!(given.config.unwrap().config_map["sdk"].body, b"1");
    let applied = |hash: &[u8], sequence_num| AgentToServer {
        instance_uid: vec![9; 16],
        sequence_num,
        capabilities: full.capabilities,
        remote_config_status: Some(RemoteConfigStatus {
            last_remote_config_hash: hash.to_vec(),
            status: RemoteConfigStatuses::Applied as i32,
            error_message: String::new(),
        }),
        ..AgentToServer::default()
    };
    tell(&mut socket, &applied(&given.config_hash, 1)).await;
    assert!(told(&mut socket).await.unwrap().remote_config.is_none());
    becomes(&node, "booking-4", "fine").await;
    // A new plan comes without being asked for; and who says nothing but is there is not silent.
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("2")));
    let given = told(&mut socket).await.unwrap().remote_config.expect("what is assigned now");
    assert_eq!(given.config.as_ref().unwrap().config_map["sdk"].body, b"2");
    tell(&mut socket, &applied(&given.config_hash, 2)).await;
    assert!(told(&mut socket).await.unwrap().remote_config.is_none());
    let before = agent(&node, "booking-4").await["heard_ms"].as_i64().unwrap();
    let silent = tokio::spawn(async move {
        let said = tokio::time::timeout(std::time::Duration::from_secs(13), told(&mut socket)).await;
        (socket, said.is_err())
    });
    until("it is heard by its answers to pings", async || (agent(&node, "booking-4").await["heard_ms"].as_i64().unwrap() > before).then_some(())).await;
    assert_eq!(agent(&node, "booking-4").await["condition"], "fine");
    let (mut socket, was_silent) = silent.await.unwrap();
    assert!(was_silent, "there was nothing to tell");
    assert!(node.client(&["agent", "retire", "booking-4"]).status.success());
    tell(&mut socket, &applied(&given.config_hash, 3)).await;
    assert_eq!(told(&mut socket).await.unwrap().flags, server_to_agent_flags::REPORT_FULL_STATE, "who is it?");
    tell(&mut socket, &full).await;
    assert!(told(&mut socket).await.unwrap_err().contains("the code is unknown, has ended or was used"), "it is nobody any more");
    node.stop().await;
}
