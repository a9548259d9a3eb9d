//! Made-up events of Saltmarsh Ferries, the same for the same seed.

use fastrand::Rng;

/// One body for one of the demo's sources.
pub(crate) struct Body {
    /// The source's name.
    pub(crate) source: &'static str,
    /// JSON lines, or plain text lines.
    pub(crate) text: String,
}

const PORTS: [&str; 4] = ["Tansy Quay", "Marrow Bay", "Lowmere", "Skerry Point"];
const VESSELS: [&str; 5] = ["Bittern", "Curlew", "Sandling", "Grey Heron", "Oystercatcher"];
const NAMES: [&str; 8] = ["Ada Pell", "Bram Tolley", "Cora Finn", "Dov Marsh", "Edda Rusk", "Finn Alder", "Greta Holm", "Ivo Sands"];
/// Card numbers from the makers' published test ranges.
const CARDS: [&str; 4] = ["4111 1111 1111 1111", "5500-0000-0000-0004", "340000000000009", "4012888888881881"];

/// One reading more for each so many events.
const READING: u64 = 400;
/// And no more than so many.
const MOST_READINGS: u64 = 400;

/// Makes events.
pub(crate) struct Generator {
    rng: Rng,
    number: u64,
}

fn pick<'a, T>(rng: &mut Rng, from: &'a [T]) -> &'a T {
    &from[rng.usize(..from.len())]
}

impl Generator {
    pub(crate) fn new(seed: u64) -> Generator {
        Generator { rng: Rng::with_seed(seed), number: 0 }
    }

    /// One body for each source, about `events` events together, at the time `now` (RFC 3339).
    pub(crate) fn bodies(&mut self, events: u32, now: &str) -> Vec<Body> {
        let (mut kiosks, mut gates, mut payments) = (String::new(), String::new(), String::new());
        for _ in 0..events {
            self.number += 1;
            match self.rng.u32(0..10) {
                0..3 => self.kiosk(&mut kiosks, now),
                3..8 => self.gate(&mut gates, now),
                _ => self.payment(&mut payments, now),
            }
        }
        let all = [("kiosks", kiosks), ("gates", gates), ("payments", payments)];
        all.into_iter().filter(|(_, text)| !text.is_empty()).map(|(source, text)| Body { source, text }).collect()
    }

    fn email(&mut self) -> String {
        format!("{}@post.example", pick(&mut self.rng, &NAMES).to_lowercase().replace(' ', "."))
    }

    fn kiosk(&mut self, out: &mut String, now: &str) {
        let port = *pick(&mut self.rng, &PORTS);
        let kiosk = format!("{}-{}", port.to_lowercase().replace(' ', "-"), self.rng.u32(1..9));
        let took = self.rng.u32(20..900);
        match self.rng.u32(0..100) {
            // Some kiosks run old software that writes plain text, and now and then a line breaks off.
            0..4 => out.push_str(&format!("{kiosk}: paper low in ticket printer\n")),
            4 => out.push_str(&format!("{{\"time\":\"{now}\",\"level\":\"info\",\"kiosk\":\"{kiosk}\",\"mess\n")),
            5..9 => {
                let email = self.email();
                out.push_str(&format!(
                    "{{\"time\":\"{now}\",\"level\":\"error\",\"service\":\"kiosk\",\"kiosk\":\"{kiosk}\",\"port\":\"{port}\",\"message\":\"ticket for {email} could not be printed\",\"duration_ms\":{took},\"debug\":{{\"heap_kb\":{},\"thread\":\"ui-{}\"}}}}\n",
                    self.rng.u32(9_000..60_000),
                    self.rng.u32(1..5)
                ));
            }
            n => {
                let (action, level) = if n < 60 {
                    ("search", "debug")
                } else if n < 85 {
                    ("timetable", "info")
                } else {
                    ("ticket", "info")
                };
                out.push_str(&format!(
                    "{{\"time\":\"{now}\",\"level\":\"{level}\",\"service\":\"kiosk\",\"kiosk\":\"{kiosk}\",\"port\":\"{port}\",\"action\":\"{action}\",\"message\":\"{action} shown\",\"duration_ms\":{took},\"trace_id\":\"{:016x}\",\"client_ip\":\"192.0.2.{}\",\"debug\":{{\"heap_kb\":{}}}}}\n",
                    self.rng.u64(..),
                    self.rng.u32(1..250),
                    self.rng.u32(9_000..60_000)
                ));
            }
        }
    }

    fn gate(&mut self, out: &mut String, now: &str) {
        let (port, vessel) = (*pick(&mut self.rng, &PORTS), *pick(&mut self.rng, &VESSELS));
        let gate = self.rng.u32(1..7);
        let head = format!("\"ts\":\"{now}\",\"service\":\"boarding\",\"gate\":\"{gate}\",\"port\":\"{port}\",\"vessel\":\"{vessel}\"");
        match self.rng.u32(0..100) {
            0..6 => {
                // The sensors' readings since the gates were started: nobody has noticed that they become more and more.
                let readings = (self.number / READING).min(MOST_READINGS) as usize;
                let sensors: Vec<String> = (0..20 + readings).map(|n| format!("{:.1}", 11.0 + (n % 17) as f64 / 10.0)).collect();
                out.push_str(&format!(
                    "{{{head},\"lvl\":\"warn\",\"event\":\"jam\",\"msg\":\"gangway {gate} timed out after {} ms\",\"http\":{{\"status\":503}},\"sensors\":\"{}\"}}\n",
                    self.rng.u32(900..9_000),
                    sensors.join(" ")
                ));
            }
            6..9 => {
                let email = self.email();
                out.push_str(&format!(
                    "{{{head},\"lvl\":\"error\",\"event\":\"refused\",\"msg\":\"no valid ticket for {email}, paid with {}\"}}\n",
                    pick(&mut self.rng, &CARDS)
                ));
            }
            9..70 => {
                let (name, email) = (*pick(&mut self.rng, &NAMES), self.email());
                out.push_str(&format!(
                    "{{{head},\"lvl\":\"info\",\"event\":\"boarded\",\"msg\":\"passenger boarded\",\"passenger\":{{\"name\":\"{name}\",\"email\":\"{email}\"}},\"passengers\":{}}}\n",
                    self.rng.u32(1..220)
                ));
            }
            n => {
                let event = if n < 80 {
                    "departed"
                } else if n < 90 {
                    "arrived"
                } else {
                    "beacon"
                };
                out.push_str(&format!(
                    "{{{head},\"lvl\":\"info\",\"event\":\"{event}\",\"msg\":\"{vessel} {event}\",\"passengers\":{}}}\n",
                    self.rng.u32(20..220)
                ));
            }
        }
    }

    fn payment(&mut self, out: &mut String, now: &str) {
        let port = *pick(&mut self.rng, &PORTS);
        let cents = self.rng.u32(450..9_900);
        let amount = format!("{}.{:02}", cents / 100, cents % 100);
        let head = format!("\"timestamp\":\"{now}\",\"service\":\"payments\",\"trace_id\":\"{:016x}\",\"number\":{}", self.rng.u64(..), self.number);
        match self.rng.u32(0..100) {
            0..25 => out.push_str(&format!("{{{head},\"severity\":\"info\",\"path\":\"/health\",\"message\":\"alive\"}}\n")),
            25..32 => {
                let email = self.email();
                out.push_str(&format!(
                    "{{{head},\"severity\":\"error\",\"kind\":\"declined\",\"path\":\"/pay\",\"message\":\"card {} declined for {email}\",\"amount\":{amount},\"port\":\"{port}\"}}\n",
                    pick(&mut self.rng, &CARDS)
                ));
            }
            32..37 => out.push_str(&format!("{{{head},\"severity\":\"info\",\"kind\":\"refund\",\"path\":\"/refund\",\"message\":\"refund of {amount} EUR at {port}\",\"amount\":{amount}}}\n")),
            _ => {
                let email = self.email();
                out.push_str(&format!(
                    "{{{head},\"severity\":\"info\",\"kind\":\"sale\",\"path\":\"/pay\",\"message\":\"sale of {amount} EUR at {port}\",\"email\":\"{email}\",\"card\":\"{}\"}}\n",
                    pick(&mut self.rng, &CARDS)
                ));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_makes_the_same_events() {
        let made = |seed| Generator::new(seed).bodies(500, "2026-11-23T10:00:00Z").into_iter().map(|b| format!("{} {}", b.source, b.text)).collect::<String>();
        assert_eq!(made(7), made(7));
        assert_ne!(made(7), made(8));
        let lines = made(7);
        let read = lines.lines().filter(|l| {
            serde_json::from_str::<serde_json::Value>(l.trim_start_matches("gates ").trim_start_matches("kiosks ").trim_start_matches("payments ")).is_ok()
        });
        assert!(read.count() > 450);
    }
}
