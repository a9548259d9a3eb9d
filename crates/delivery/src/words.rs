//! What destinations say of themselves: it may be what they were sent.

/// What is told of a failure without what a destination said beyond its status: `answered 400`, of `answered 400: …`. What is told of no answer is ours and stays.
#[must_use]
pub fn without_words(says: &str) -> &str {
    let end = says.find("answered ").and_then(|from| says[from..].find([':', ',']).map(|to| from + to));
    &says[..end.unwrap_or(says.len())]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_destination_said_is_left_out() {
        for (says, kept) in [
            ("answered 400: {\"error\":\"ann@post.example\"}", "answered 400"),
            ("answered 200, but says: no", "answered 200"),
            ("http://desk.example answered 503 Service Unavailable: busy", "http://desk.example answered 503 Service Unavailable"),
            ("cannot be reached: connection refused", "cannot be reached: connection refused"),
            ("answered 500", "answered 500"),
        ] {
            assert_eq!(without_words(says), kept);
        }
    }

    #[tokio::test]
    async fn a_probe_tells_the_status_and_no_more() {
        let mut probe = crate::Probe { steps: Vec::new() };
        probe.step("accept", async { Err::<((), String), _>("answered 403 Forbidden: you are ann@post.example") }).await;
        assert_eq!(probe.steps[0].says, "answered 403 Forbidden");
    }
}
