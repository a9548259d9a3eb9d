//! The kinds of destinations that the suite runs: how each is set up, and what is known of its protocol.

use rockrose_archive::Part;
use rockrose_event::output::SyslogFacility;
use rockrose_plan::{ArchiveDestination, BodyForm, MailDestination, MailSafety, Objects, StoreLocation as Where, SyslogTransport, TlsFiles};
use standin::Speaks;

use super::super::*;

/// Most bytes of one body.
const BATCH: usize = 1_500;

/// A kind of destination, in one of its forms.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sort {
    File,
    Discard,
    Http,
    OtlpHttp,
    OtlpJson,
    Grpc,
    Syslog,
    SyslogDatagrams,
    Mail,
    Folder,
    Store,
}

impl Sort {
    pub(super) const ALL: [Sort; 11] = [
        Sort::File,
        Sort::Discard,
        Sort::Http,
        Sort::OtlpHttp,
        Sort::OtlpJson,
        Sort::Grpc,
        Sort::Syslog,
        Sort::SyslogDatagrams,
        Sort::Mail,
        Sort::Folder,
        Sort::Store,
    ];

    /// What stands at its other end, if it is reached over a network.
    pub(super) fn speaks(self) -> Option<Speaks> {
        match self {
            Sort::Http | Sort::OtlpHttp | Sort::OtlpJson => Some(Speaks::Http),
            Sort::Grpc => Some(Speaks::Grpc),
            Sort::Syslog | Sort::SyslogDatagrams => Some(Speaks::Syslog),
            Sort::Mail => Some(Speaks::Mail),
            Sort::Store => Some(Speaks::Store),
            Sort::File | Sort::Discard | Sort::Folder => None,
        }
    }

    /// Whether the other end answers. Without an answer, what is on its way when the other end goes is lost, as the protocol has it.
    pub(super) fn is_answered(self) -> bool {
        !matches!(self, Sort::Discard | Sort::Syslog | Sort::SyslogDatagrams)
    }

    /// Whether the other end can refuse events.
    pub(super) fn can_be_refused(self) -> bool {
        matches!(self, Sort::Http | Sort::OtlpHttp | Sort::OtlpJson | Sort::Grpc)
    }

    /// Whether each event stands there once, also when the worker is killed between sending and settling.
    pub(super) fn promises_exactly_once(self) -> bool {
        matches!(self, Sort::File | Sort::Folder | Sort::Store)
    }

    pub(super) fn target(self, address: SocketAddr, out: &Path, timeout: Duration) -> Target {
        let http = |path: &str, form| HttpSettings { form, timeout, max_batch: BATCH, ..HttpSettings::new(&format!("http://{address}{path}")) };
        let syslog = |transport| SyslogDestination {
            transport,
            host: "127.0.0.1".into(),
            port: address.port(),
            facility: SyslogFacility::User,
            tls: TlsFiles::default(),
            timeout,
            max_batch: BATCH as u64,
        };
        let mail = || MailSettings {
            mail: MailDestination {
                host: "127.0.0.1".into(),
                port: address.port(),
                safety: MailSafety::Plain,
                sign_in: None,
                from: "rockrose@ferries.example".into(),
                to: vec!["duty@ferries.example".into()],
                subject: None,
                gather_for: Duration::from_millis(1),
                tls: TlsFiles::default(),
                timeout,
                max_batch: BATCH as u64,
            },
            password: None,
            queue: "n/d".into(),
        };
        let archive = |store| ArchiveSettings {
            archive: ArchiveDestination {
                store,
                access_secret: None,
                objects: Objects::JsonLines,
                as_received: false,
                divide_by: vec![Part::Date],
                object_at: BATCH as u64,
                object_every: Duration::from_millis(1),
                tls: TlsFiles::default(),
                timeout,
                mode: None,
            },
            access_secret: Some("sandpiper".into()),
            node: "n".into(),
        };
        let bucket = Where::Bucket {
            bucket: "vault".into(),
            prefix: String::new(),
            endpoint: Some(format!("http://{address}")),
            region: "us-east-1".into(),
            access_key: Some("quay".into()),
        };
        match self {
            Sort::File => plain_file(out).into(),
            Sort::Discard => Discard.into(),
            Sort::Http => http("/in", BodyForm::JsonLines).into(),
            Sort::OtlpHttp => http("/v1/logs", BodyForm::Otlp).into(),
            Sort::OtlpJson => http("/v1/logs", BodyForm::OtlpJson).into(),
            Sort::Grpc => GrpcSettings(http("", BodyForm::Otlp)).into(),
            Sort::Syslog => syslog(SyslogTransport::Tcp).into(),
            Sort::SyslogDatagrams => syslog(SyslogTransport::Udp).into(),
            Sort::Mail => mail().into(),
            Sort::Folder => archive(Where::Folder(out.to_str().unwrap().into())).into(),
            Sort::Store => archive(bucket).into(),
        }
    }

    /// The numbers of the events that arrived, in the order in which they stand, however they are written. Nothing is known of what is let go.
    pub(super) fn numbers(self, out: &Path) -> Option<Vec<u32>> {
        let objects = |folder: PathBuf| {
            let mut paths: Vec<PathBuf> = std::fs::read_dir(folder).into_iter().flatten().map(|entry| entry.unwrap().path()).collect();
            paths.retain(|path| path.extension().is_some_and(|e| e == "zst"));
            // An object is named by its first event: by when it came, and by its place in the queue.
            let place = |path: &PathBuf| -> Vec<u64> {
                let name = path.file_name().unwrap().to_string_lossy().into_owned();
                name.split(['-', '.']).filter_map(|part| part.parse().ok()).collect()
            };
            paths.sort_by_key(place);
            let unpacked = paths.iter().map(|path| zstd::stream::decode_all(std::fs::File::open(path).unwrap()).unwrap());
            unpacked.map(|bytes| String::from_utf8(bytes).unwrap()).collect::<String>()
        };
        if self == Sort::Mail {
            let letters = std::fs::read_to_string(out).unwrap_or_default();
            return Some(letters.lines().filter_map(|line| line.strip_prefix("    n: ")?.parse().ok()).collect());
        }
        let text = match self {
            Sort::Discard => return None,
            Sort::Store => objects(out.join("vault/date=1970-01-01")),
            Sort::Folder => objects(out.join("date=1970-01-01")),
            _ => std::fs::read_to_string(out).unwrap_or_default(),
        };
        let number = |line: &str| {
            let digits = line.split_once("n\":").or_else(|| line.split_once("n=\"")).unwrap().1;
            digits.split(|c: char| !c.is_ascii_digit()).next().unwrap().parse().unwrap()
        };
        // A test of the way may have sent an event of its own, which is marked and has no number.
        Some(text.lines().filter(|line| line.contains("n\":") || line.contains("n=\"")).map(number).collect())
    }
}
