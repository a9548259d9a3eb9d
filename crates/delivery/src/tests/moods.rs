//! Every kind that goes over a network, to a stand-in in every mood: what was queued arrives, nothing is set aside, and it is well in the end.

use rockrose_archive::Part;
use rockrose_event::output::SyslogFacility;
use rockrose_plan::{ArchiveDestination, BodyForm, Objects, StoreLocation as Where, SyslogDestination, SyslogTransport, TlsFiles};
use standin::{Schedule, Speaks, StandIn};

use super::*;

const PATIENCE: Duration = Duration::from_millis(400);

#[derive(Clone, Copy, Debug)]
enum Over {
    Http,
    OtlpHttp,
    OtlpJson,
    Grpc,
    Syslog,
    Store,
}

impl Over {
    const ALL: [Over; 6] = [Over::Http, Over::OtlpHttp, Over::OtlpJson, Over::Grpc, Over::Syslog, Over::Store];

    fn speaks(self) -> Speaks {
        match self {
            Over::Http | Over::OtlpHttp | Over::OtlpJson => Speaks::Http,
            Over::Grpc => Speaks::Grpc,
            Over::Syslog => Speaks::Syslog,
            Over::Store => Speaks::Store,
        }
    }

    fn kind(self, address: SocketAddr) -> Target {
        let http = |path: &str, form| HttpSettings { form, timeout: PATIENCE, max_batch: 1_500, ..HttpSettings::new(&format!("http://{address}{path}")) };
        match self {
            Over::Http => http("/in", BodyForm::JsonLines).into(),
            Over::OtlpHttp => http("/v1/logs", BodyForm::Otlp).into(),
            Over::OtlpJson => http("/v1/logs", BodyForm::OtlpJson).into(),
            Over::Grpc => GrpcSettings(http("", BodyForm::Otlp)).into(),
            Over::Syslog => SyslogDestination {
                transport: SyslogTransport::Tcp,
                host: "127.0.0.1".into(),
                port: address.port(),
                facility: SyslogFacility::User,
                tls: TlsFiles::default(),
                timeout: PATIENCE,
                max_batch: 1_500,
            }
            .into(),
            Over::Store => ArchiveSettings {
                archive: ArchiveDestination {
                    store: Where::Bucket {
                        bucket: "vault".into(),
                        prefix: String::new(),
                        endpoint: Some(format!("http://{address}")),
                        region: "us-east-1".into(),
                        access_key: Some("quay".into()),
                    },
                    access_secret: None,
                    objects: Objects::JsonLines,
                    as_received: false,
                    divide_by: vec![Part::Date],
                    object_at: 1_500,
                    object_every: Duration::from_millis(1),
                    tls: TlsFiles::default(),
                    timeout: PATIENCE,
                },
                access_secret: Some("sandpiper".into()),
                node: "n".into(),
            }
            .into(),
        }
    }
}

/// The numbers of the events that arrived, however they are written.
fn numbers(over: Over, kept: &Path) -> Vec<u32> {
    let mut text = String::new();
    if let Over::Store = over {
        for entry in std::fs::read_dir(kept.join("vault/date=1970-01-01")).into_iter().flatten().map(Result::unwrap) {
            if entry.path().extension().is_some_and(|e| e == "zst") {
                text += std::str::from_utf8(&zstd::stream::decode_all(std::fs::File::open(entry.path()).unwrap()).unwrap()).unwrap();
            }
        }
    } else {
        text = std::fs::read_to_string(kept).unwrap_or_default();
    }
    let number = |line: &str| {
        let digits = line.split_once("n\":").or_else(|| line.split_once("n=\"")).unwrap().1;
        digits.split(|c: char| !c.is_ascii_digit()).next().unwrap().parse().unwrap()
    };
    let mut numbers: Vec<u32> = text.lines().map(number).collect();
    numbers.sort_unstable();
    numbers
}

async fn survives(over: Over, mood: &'static str) {
    let p = place();
    let kept = p.out.with_file_name("kept");
    std::fs::create_dir_all(kept.parent().unwrap()).unwrap();
    let schedule = Schedule::read(&format!("{mood} for 500ms, well for 1m")).unwrap();
    let (address, _stop) = stand_in(StandIn { speaks: over.speaks(), into: Some(kept.clone()), schedule, ..StandIn::default() }, "127.0.0.1:0").await;
    for start in (0..300).step_by(30) {
        queue(&p.spool, "d", &numbered(start..start + 30)).await;
    }
    let w = worker(&p, over.kind(address));
    until(&format!("{over:?} while {mood}"), || drained(&p.spool, "d")).await;
    until("it is well", || matches!(w.health().get().state, State::Healthy | State::Slow)).await;
    // A protocol without answers has delivered what the system took; the receiver may read it later.
    let all: Vec<u32> = (0..300).collect();
    let distinct = || {
        let mut numbers = numbers(over, &kept);
        numbers.dedup();
        numbers
    };
    // What was on its way when such a receiver closed is lost, as that protocol has it.
    if !(matches!(over, Over::Syslog) && matches!(mood, "failing" | "closing")) {
        until(&format!("all arrives, {over:?} while {mood}"), || distinct() == all).await;
    }
    assert!(p.spool.quarantined(1).await.unwrap().is_empty(), "{over:?} while {mood}");
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_kind_survives_every_mood() {
    let mut running = tokio::task::JoinSet::new();
    for over in Over::ALL {
        for mood in ["well", "slow 20ms", "failing", "hanging", "closing"] {
            running.spawn(survives(over, mood));
        }
    }
    while let Some(done) = running.join_next().await {
        done.unwrap();
    }
}
