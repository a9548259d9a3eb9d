//! Signs what is posted, as HTTP message signatures (RFC 9421) with HMAC-SHA-256 over the method, the authority, the path and the body's digest (RFC 9530).

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use hmac::{Hmac, Mac};
use reqwest::Url;
use sha2::{Digest, Sha256};

/// What is signed of a request, in this order.
const COMPONENTS: &str = "(\"@method\" \"@authority\" \"@path\" \"content-digest\")";

/// The headers that sign a POST of `body` to `url`: `content-digest`, `signature-input` and `signature`. `created` is in seconds since 1970.
pub(super) fn headers(key: &[u8], url: &Url, body: &[u8], created: i64) -> [(&'static str, String); 3] {
    let digest = format!("sha-256=:{}:", BASE64_STANDARD.encode(Sha256::digest(body)));
    let parameters = format!("{COMPONENTS};created={created};alg=\"hmac-sha256\"");
    // A URL leaves its scheme's usual port out, as the authority is to.
    let base = format!(
        "\"@method\": POST\n\"@authority\": {}\n\"@path\": {}\n\"content-digest\": {digest}\n\"@signature-params\": {parameters}",
        url.port().map_or_else(|| url.host_str().unwrap_or_default().to_owned(), |port| format!("{}:{port}", url.host_str().unwrap_or_default())),
        url.path()
    );
    let signature = format!("rockrose=:{}:", BASE64_STANDARD.encode(sign(key, base.as_bytes())));
    [("content-digest", digest), ("signature-input", format!("rockrose={parameters}")), ("signature", signature)]
}

/// HMAC-SHA-256 of a signature base.
fn sign(key: &[u8], base: &[u8]) -> Vec<u8> {
    // Any length makes a key.
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(key) else { return Vec::new() };
    mac.update(base);
    mac.finalize().into_bytes().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signatures_are_those_of_the_standard() {
        // RFC 9421, appendix B.2.5.
        let key = BASE64_STANDARD.decode("uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ==").unwrap();
        let base = "\"date\": Tue, 20 Apr 2021 02:07:55 GMT\n\"@authority\": example.com\n\"content-type\": application/json\n\
                    \"@signature-params\": (\"date\" \"@authority\" \"content-type\");created=1618884473;keyid=\"test-shared-secret\"";
        assert_eq!(BASE64_STANDARD.encode(sign(&key, base.as_bytes())), "pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8=");
        // RFC 9530, appendix D, of a body with its line break.
        let [(_, digest), ..] = headers(b"k", &Url::parse("http://desk.example/in").unwrap(), b"{\"hello\": \"world\"}\n", 0);
        assert_eq!(digest, "sha-256=:RK/0qy18MlBSVnWgjwz6lZEWjP/lF5HF9bvEF8FabDg=:");
    }

    #[test]
    fn what_is_signed_is_the_request_that_is_made() {
        let of = |url: &str, body: &[u8], created| headers(b"key", &Url::parse(url).unwrap(), body, created);
        let [_, (_, input), (_, signature)] = of("https://Desk.example:443/in?x=1", b"{}", 5);
        assert_eq!(input, "rockrose=(\"@method\" \"@authority\" \"@path\" \"content-digest\");created=5;alg=\"hmac-sha256\"");
        assert_eq!(of("https://desk.example/in", b"{}", 5)[2].1, signature, "case and the usual port are no part of it");
        for other in [
            of("https://desk.example:8443/in", b"{}", 5),
            of("https://desk.example/out", b"{}", 5),
            of("https://desk.example/in", b"{ }", 5),
            of("https://desk.example/in", b"{}", 6),
        ] {
            assert_ne!(other[2].1, signature);
        }
    }
}
