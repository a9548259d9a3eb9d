//! What puts an agent on a host that has nothing yet: a line to paste, and the script that it fetches.

/// A text as one word of a shell.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// The machines that programs are for, as `uname -m` calls them.
fn machine() -> &'static str {
    match std::env::consts::ARCH {
        "arm" => "armv7l",
        "x86" => "i686",
        other => other,
    }
}

/// What fetches something that stands at this service, which is known by its key alone.
fn fetch(url: &str, path: &str, bearer: &str, key_pin: &str) -> String {
    format!(
        "curl -fsSk --pinnedpubkey {} -H {} {}",
        quoted(&format!("sha256//{key_pin}")),
        quoted(&format!("Authorization: Bearer {bearer}")),
        quoted(&format!("{url}{path}"))
    )
}

/// The line that is pasted.
pub(crate) fn line(url: &str, bearer: &str, key_pin: &str) -> String {
    format!("{} | sudo sh", fetch(url, "/agent/setup", bearer, key_pin))
}

/// The script: it fetches the program, and lets it say what it would do.
pub(super) fn script(url: &str, bearer: &str, pin: &str, key_pin: &str) -> String {
    let (machine, program) = (machine(), fetch(url, "/agent/rockrose", bearer, key_pin));
    let (url, code) = (quoted(url), quoted(&format!("{bearer}.{pin}")));
    format!(
        r#"#!/bin/sh
# Puts an agent of Rockrose on this host. It says what it would do, and asks first.
# What is written behind it goes to the agent: … | sudo sh -s -- --dry --label port=Lowmere
set -eu
if [ "$(uname -s) $(uname -m)" != "Linux {machine}" ]; then
  echo "This service has a program for Linux on {machine}, and this host is $(uname -s) on $(uname -m)." >&2
  echo "Copy one for it here, and run: rockrose agent install {url} {code}" >&2
  exit 1
fi
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
{program} -o "$folder/rockrose"
chmod 755 "$folder/rockrose"
if ! "$folder/rockrose" --version >/dev/null; then
  echo "The service's program does not run on this host, which may lack the libraries that it needs." >&2
  exit 1
fi
# This script came by the standard input; whoever is asked answers at the terminal.
if (: </dev/tty) 2>/dev/null; then
  "$folder/rockrose" agent install {url} {code} "$@" </dev/tty
else
  "$folder/rockrose" agent install {url} {code} "$@"
fi
"#
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_pasted_is_quoted_and_trusts_one_key() {
        assert_eq!(
            line("https://logs.ferries.example:8640", "4f02", "AAAA="),
            "curl -fsSk --pinnedpubkey 'sha256//AAAA=' -H 'Authorization: Bearer 4f02' 'https://logs.ferries.example:8640/agent/setup' | sudo sh"
        );
        let script = script("https://a'b:1", "4f02", "pin", "AAAA=");
        assert!(script.contains(r"agent install 'https://a'\''b:1' '4f02.pin'"), "{script}");
        let checked = std::process::Command::new("sh").args(["-n", "-c", &script]).status().unwrap();
        assert!(checked.success());
    }
}
