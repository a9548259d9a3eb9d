//! The corpus: the same for the same seed.

/// A small generator of pseudo-random numbers (SplitMix64), so that the corpus depends on nothing else.
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn below(&mut self, n: u64) -> u64 {
        self.next() % n
    }
}

const SERVICES: [&str; 6] = ["boarding", "kiosk", "payments", "booking", "vessel", "crew"];
const PORTS: [&str; 4] = ["Tansy Quay", "Marrow Bay", "Lowmere", "Skerry Point"];
const LEVELS: [&str; 10] = ["debug", "info", "info", "info", "info", "info", "info", "warn", "warn", "error"];

/// `events` JSON lines of about 350 bytes; one in five has an e-mail address in its message, one in ten an escape.
pub(crate) fn corpus(events: usize, seed: u64) -> Vec<u8> {
    let mut n = Numbers(seed);
    let mut out = Vec::with_capacity(events * 360);
    for i in 0..events {
        let service = SERVICES[n.below(6) as usize];
        let message = match n.below(10) {
            0 | 1 => format!("receipt sent to walker{}@post.example after {} ms", n.below(5_000), n.below(900)),
            2 => format!("gate \\\"{}\\\" opened for the {} crossing, all aboard", n.below(9), PORTS[n.below(4) as usize]),
            _ => format!("crossing {} to {} on schedule, {} passengers aboard", n.below(400), PORTS[n.below(4) as usize], n.below(220)),
        };
        let mut fields = vec![
            format!("\"time\":\"2026-11-23T10:{:02}:{:02}.{:03}Z\"", n.below(60), n.below(60), n.below(1000)),
            format!("\"level\":\"{}\"", LEVELS[n.below(10) as usize]),
            format!("\"service\":\"{service}\""),
            format!("\"message\":\"{message}\""),
            format!("\"trace_id\":\"{:016x}{:016x}\"", n.next(), n.next()),
            format!("\"port\":\"{}\"", PORTS[n.below(4) as usize]),
            format!("\"duration_ms\":{}", n.below(2_000)),
            format!(
                "\"http\":{{\"status\":{},\"method\":\"POST\",\"path\":\"/v1/{service}/{}\"}}",
                [200, 200, 200, 201, 404, 503][n.below(6) as usize],
                n.below(10_000)
            ),
            format!("\"client_ip\":\"192.0.2.{}\"", n.below(250)),
            format!("\"kiosk\":\"k-{}\"", n.below(200)),
            format!("\"amount\":{}.{:02}", n.below(90), n.below(100)),
            format!("\"sequence\":{i}"),
        ];
        for extra in 0..n.below(4) {
            fields.push(format!("\"extra_{extra}\":\"{:08x}\"", n.next() as u32));
        }
        let turn = [0, 3, 5, 7][n.below(4) as usize];
        fields.rotate_left(turn);
        out.extend_from_slice(b"{");
        out.extend_from_slice(fields.join(",").as_bytes());
        out.extend_from_slice(b"}\n");
    }
    out
}

/// Lines of text, for `parse`.
pub(crate) struct Texts {
    /// One line a call: `192.0.2.7 took 83 ms for /v1/kiosk/12: done`.
    pub(crate) calls: Vec<u8>,
    /// The access log that web servers write.
    pub(crate) access: Vec<u8>,
    /// Messages of a few dozen sorts.
    pub(crate) messages: Vec<u8>,
}

/// A message, one of twenty sorts.
fn message(n: &mut Numbers) -> String {
    let (port, service) = (PORTS[n.below(4) as usize], SERVICES[n.below(6) as usize]);
    let (small, large, ip) = (n.below(100), n.below(1 << 40), n.below(250));
    match n.below(20) {
        0..=2 => format!("crossing {small} to {port} on schedule, {} passengers aboard", n.below(220)),
        3 => format!("receipt sent to walker{large}@post.example after {small} ms"),
        4 => format!("gate {small} at {port} opened by crew of {service}"),
        5 => format!("connection from 192.0.2.{ip}:{} closed after {small}.{} s", n.below(60_000), n.below(1000)),
        6 => format!("session {large:016x} of {service} ended: no activity for {small} minutes"),
        7 => format!("GET /v1/{service}/{large} status=200 bytes={} took={small}ms", n.below(90_000)),
        8 => format!("retry {small} of request {large:x} to desk.{service}.example:443"),
        9 => format!("cache of {service} holds {large} entries in {small} MB"),
        10 => format!("user walker{small} signed in from 198.51.100.{ip}"),
        11 => format!("tide at {port}: {small}.{} m, wind {} knots", n.below(10), n.below(40)),
        12 => format!("org.example.{service}.Worker: task {large} finished in {small} ms"),
        13 => format!("cannot read /var/lib/{service}/{large:x}.dat: No such file or directory"),
        14 => format!("payment {large} declined (code {small})"),
        15 => format!("[{service}] queue depth {small}, oldest {} s", n.below(900)),
        16 => format!("ticket printer {small} is out of paper"),
        17 => format!("health check of {service} passed"),
        18 => format!("vessel Tern moored at {port} with {small} lines"),
        _ => format!("key=value pairs: a={small} b={large} c=\"two words\" d={service}"),
    }
}

impl Texts {
    /// `lines` of each.
    pub(crate) fn of(lines: usize, seed: u64) -> Texts {
        let mut n = Numbers(seed);
        let (mut calls, mut access, mut messages) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..lines {
            let (ip, ms, service) = (n.below(250), n.below(3_000), SERVICES[n.below(6) as usize]);
            calls.extend_from_slice(format!("192.0.2.{ip} took {ms} ms for /v1/{service}/{}: done\n", n.below(10_000)).as_bytes());
            let line = format!(
                "198.51.100.{} - - [23/Nov/2026:10:{:02}:{:02} +0000] \"GET /v1/{service}/{} HTTP/1.1\" {} {} \"https://ferries.example/{service}\" \"kiosk/{}.{}\"\n",
                n.below(250),
                n.below(60),
                n.below(60),
                n.below(10_000),
                [200, 200, 304, 404, 503][n.below(5) as usize],
                n.below(90_000),
                n.below(9),
                n.below(30)
            );
            access.extend_from_slice(line.as_bytes());
            messages.extend_from_slice(message(&mut n).as_bytes());
            messages.push(b'\n');
        }
        Texts { calls, access, messages }
    }
}
