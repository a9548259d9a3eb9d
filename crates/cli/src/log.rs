//! Where log lines go.

use std::io::Write;

use rockrose_client::format::printable;

/// Log lines go to standard error; how much is set by `ROCKROSE_LOG`.
pub(crate) fn log() {
    let filter = tracing_subscriber::EnvFilter::try_from_env("ROCKROSE_LOG").unwrap_or_else(|_| "info".into());
    let ansi = std::io::IsTerminal::is_terminal(&std::io::stderr());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(move || Printable { ansi }).with_ansi(ansi).with_target(false).init();
}

/// Standard error, without what would make a terminal act but the log's own styles: names, paths and answers of others are logged.
struct Printable {
    ansi: bool,
}

impl Write for Printable {
    /// A log line comes whole.
    fn write(&mut self, line: &[u8]) -> std::io::Result<usize> {
        let text = String::from_utf8_lossy(line);
        std::io::stderr().write_all(printable(&text, |_| self.ansi).as_bytes())?;
        Ok(line.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        std::io::stderr().flush()
    }
}
