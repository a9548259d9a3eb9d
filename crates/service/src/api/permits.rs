//! What each call needs of whoever makes it, and what the journal calls it. A call that is not in the table is refused to everybody.

use rockrose_grants::Need;

/// One call.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Permit {
    pub(crate) method: &'static str,
    /// Its path, as the router has it.
    pub(crate) path: &'static str,
    /// All of these.
    pub(crate) needs: &'static [Need],
    /// What the journal calls it; nothing, if it does not stand there.
    pub(crate) noted: Option<&'static str>,
}

const fn read(path: &'static str, needs: &'static [Need]) -> Permit {
    Permit { method: "GET", path, needs, noted: None }
}

const fn noted(method: &'static str, path: &'static str, needs: &'static [Need], what: &'static str) -> Permit {
    Permit { method, path, needs, noted: Some(what) }
}

const KNOWN: &[Need] = &[Need::Known];
const SEE: &[Need] = &[Need::See];
const SEE_ALL: &[Need] = &[Need::SeeAll];
const OPERATE: &[Need] = &[Need::Operate];
const CHANGE: &[Need] = &[Need::Change];
const CHANGE_OPERATE: &[Need] = &[Need::Change, Need::Operate];
const SECRETS: &[Need] = &[Need::Secrets];
const PEOPLE: &[Need] = &[Need::People];
const AUDIT: &[Need] = &[Need::Audit];
/// Files of the host may hold anything.
const CHANGE_ALL: &[Need] = &[Need::ChangeAll];
const FILES: &[Need] = &[Need::SeeAll, Need::ChangeAll];

/// All calls.
pub(crate) const PERMITS: &[Permit] = &[
    read("/api/v1/status", KNOWN),
    read("/api/v1/flow", KNOWN),
    read("/api/v1/flow/before", KNOWN),
    read("/api/v1/agents", KNOWN),
    read("/api/v1/agents/{name}", KNOWN),
    noted("DELETE", "/api/v1/agents/{name}", SECRETS, "retire agent"),
    noted("POST", "/api/v1/agents/{name}/look", FILES, "look into files of agent"),
    Permit { method: "POST", path: "/api/v1/agents", needs: CHANGE_ALL, noted: None },
    Permit { method: "POST", path: "/api/v1/agent-update", needs: SECRETS, noted: None },
    noted("DELETE", "/api/v1/agent-update", SECRETS, "stop update of agents"),
    Permit { method: "POST", path: "/api/v1/agent-stage", needs: CHANGE_ALL, noted: None },
    noted("POST", "/api/v1/enrol-codes", SECRETS, "make code for agents"),
    noted("DELETE", "/api/v1/enrol-codes/{id}", SECRETS, "end code for agents"),
    read("/api/v1/alerts", KNOWN),
    noted("POST", "/api/v1/alerts/{name}/acknowledge", OPERATE, "acknowledge alert"),
    noted("PUT", "/api/v1/alerts/{name}/silence", OPERATE, "silence alert"),
    noted("DELETE", "/api/v1/alerts/{name}/silence", OPERATE, "end silence"),
    Permit { method: "POST", path: "/api/v1/alerts/try", needs: KNOWN, noted: None },
    read("/api/v1/budgets", KNOWN),
    noted("PUT", "/api/v1/budgets/{name}/lift", OPERATE, "lift budget"),
    noted("DELETE", "/api/v1/budgets/{name}/lift", OPERATE, "end lift of budget"),
    read("/api/v1/me", KNOWN),
    noted("PUT", "/api/v1/me/password", KNOWN, "change own password"),
    read("/api/v1/sources", KNOWN),
    read("/api/v1/sources/{name}/senders", KNOWN),
    noted("POST", "/api/v1/sources/{name}/pause", OPERATE, "pause source"),
    noted("POST", "/api/v1/sources/{name}/resume", OPERATE, "resume source"),
    noted("POST", "/api/v1/sources/{name}/key", SECRETS, "make source key"),
    noted("DELETE", "/api/v1/sources/{name}/key", SECRETS, "revoke source key"),
    noted("POST", "/api/v1/sources/{name}/test", OPERATE, "test source"),
    noted("GET", "/api/v1/sources/{name}/next", SEE, "look at next events"),
    noted("POST", "/api/v1/files/look", FILES, "look into files"),
    read("/api/v1/kits", KNOWN),
    Permit { method: "POST", path: "/api/v1/kits/recognise", needs: KNOWN, noted: None },
    read("/api/v1/plan", KNOWN),
    read("/api/v1/plan/first", KNOWN),
    Permit { method: "POST", path: "/api/v1/plan/check", needs: CHANGE, noted: None },
    Permit { method: "POST", path: "/api/v1/plan/edit", needs: KNOWN, noted: None },
    Permit { method: "POST", path: "/api/v1/plan/examples", needs: SEE, noted: None },
    Permit { method: "POST", path: "/api/v1/plan/examples/make", needs: SEE, noted: None },
    Permit { method: "POST", path: "/api/v1/plan/outline", needs: KNOWN, noted: None },
    read("/api/v1/plan/draft", KNOWN),
    Permit { method: "PUT", path: "/api/v1/plan/draft", needs: CHANGE, noted: None },
    Permit { method: "DELETE", path: "/api/v1/plan/draft", needs: CHANGE, noted: None },
    Permit { method: "POST", path: "/api/v1/plan/draft/renew", needs: CHANGE, noted: None },
    noted("POST", "/api/v1/plan/test-destination", CHANGE_OPERATE, "test destination"),
    read("/api/v1/revisions", KNOWN),
    noted("POST", "/api/v1/revisions", CHANGE, "apply plan"),
    read("/api/v1/revisions/{number}", KNOWN),
    noted("POST", "/api/v1/revisions/{number}/revert", CHANGE, "revert plan"),
    read("/api/v1/ledger", KNOWN),
    read("/api/v1/ledger/minutes", KNOWN),
    read("/api/v1/ledger/by-tag", KNOWN),
    noted("GET", "/api/v1/quarantine", SEE, "look at quarantine"),
    noted("GET", "/api/v1/quarantine/{id}/why", SEE, "look at quarantine"),
    noted("POST", "/api/v1/quarantine/resend", OPERATE, "send again"),
    read("/api/v1/quarantine/resent/{run}", OPERATE),
    noted("POST", "/api/v1/destinations/{name}/pause", OPERATE, "pause destination"),
    noted("POST", "/api/v1/destinations/{name}/resume", OPERATE, "resume destination"),
    noted("POST", "/api/v1/destinations/{name}/purge", OPERATE, "purge destination"),
    noted("POST", "/api/v1/destinations/{name}/test", OPERATE, "test destination"),
    read("/api/v1/destinations/{name}/answers", KNOWN),
    noted("GET", "/api/v1/tail", SEE, "look at live events"),
    noted("GET", "/api/v1/sample", SEE, "look at sample"),
    noted("GET", "/api/v1/fields", SEE, "look at sample"),
    noted("GET", "/api/v1/patterns", SEE, "look at sample"),
    Permit { method: "POST", path: "/api/v1/complete", needs: KNOWN, noted: None },
    read("/api/v1/suggestions", SEE_ALL),
    noted("POST", "/api/v1/suggestions/{id}/decline", CHANGE, "decline suggestion"),
    noted("DELETE", "/api/v1/suggestions/{id}/decline", CHANGE, "restore suggestion"),
    noted("POST", "/api/v1/why", SEE, "ask why"),
    noted("POST", "/api/v1/trial", SEE, "try plan"),
    read("/api/v1/secrets", KNOWN),
    noted("PUT", "/api/v1/secrets/{name}", SECRETS, "set secret"),
    noted("DELETE", "/api/v1/secrets/{name}", SECRETS, "remove secret"),
    noted("POST", "/api/v1/sign-in-links", KNOWN, "make sign-in link"),
    read("/api/v1/roles", KNOWN),
    read("/api/v1/people", PEOPLE),
    noted("POST", "/api/v1/people", PEOPLE, "add person"),
    noted("PUT", "/api/v1/people/{name}/grants", PEOPLE, "grant"),
    noted("PUT", "/api/v1/people/{name}/password", PEOPLE, "set password"),
    noted("DELETE", "/api/v1/people/{name}", PEOPLE, "remove person"),
    noted("POST", "/api/v1/people/who-sees", PEOPLE, "ask who sees"),
    read("/api/v1/tokens", PEOPLE),
    noted("POST", "/api/v1/tokens", PEOPLE, "make token"),
    noted("DELETE", "/api/v1/tokens/{id}", PEOPLE, "revoke token"),
    read("/api/v1/sessions", KNOWN),
    noted("DELETE", "/api/v1/sessions/{id}", KNOWN, "end session"),
    noted("GET", "/api/v1/journal", AUDIT, "read journal"),
    noted("GET", "/api/v1/journal/check", AUDIT, "check journal"),
];

/// What a call needs.
pub(crate) fn permit(method: &str, path: &str) -> Option<&'static Permit> {
    // What answers to GET answers to HEAD.
    let method = if method == "HEAD" { "GET" } else { method };
    PERMITS.iter().find(|permit| permit.method == method && permit.path == path)
}

impl Permit {
    /// What of a request's path stands for the parts of the permit's path that are in braces.
    pub(crate) fn subject(&self, path: &str) -> String {
        let parts = self.path.split('/').zip(path.split('/')).filter(|(of, _)| of.starts_with('{')).map(|(_, part)| part);
        percent_encoding::percent_decode_str(&parts.collect::<Vec<_>>().join(" ")).decode_utf8_lossy().into_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_call_has_a_permit_and_every_permit_a_call() {
        let document = serde_json::to_value(crate::openapi()).unwrap();
        let mut calls: Vec<(String, String)> = Vec::new();
        for (path, item) in document["paths"].as_object().unwrap() {
            calls.extend(item.as_object().unwrap().keys().map(|method| (method.to_uppercase(), path.clone())));
        }
        let mut permits: Vec<(String, String)> = PERMITS.iter().map(|p| (p.method.to_owned(), p.path.to_owned())).collect();
        calls.sort();
        permits.sort();
        assert_eq!(calls, permits);
        assert!(PERMITS.iter().all(|permit| !permit.needs.is_empty()));
        // What changes something is in the journal.
        let unnoted: Vec<_> = PERMITS.iter().filter(|p| p.method != "GET" && p.noted.is_none()).map(|p| p.path).collect();
        // What somebody drafts changes nothing but their draft.
        let drafts = ["/api/v1/plan/draft", "/api/v1/plan/draft", "/api/v1/plan/draft/renew"];
        assert_eq!(
            unnoted,
            [
                // These three note with whom they had to do, and not what was only asked.
                &["/api/v1/agents", "/api/v1/agent-update", "/api/v1/agent-stage"][..],
                &[
                    "/api/v1/alerts/try",
                    "/api/v1/kits/recognise",
                    "/api/v1/plan/check",
                    "/api/v1/plan/edit",
                    "/api/v1/plan/examples",
                    "/api/v1/plan/examples/make",
                    "/api/v1/plan/outline"
                ][..],
                &drafts[..],
                &["/api/v1/complete"]
            ]
            .concat()
        );
    }

    #[test]
    fn a_subject_is_what_the_path_names() {
        let of = |method, template, path| permit(method, template).unwrap().subject(path);
        assert_eq!(of("POST", "/api/v1/sources/{name}/pause", "/api/v1/sources/old%20gate/pause"), "old gate");
        assert_eq!(of("GET", "/api/v1/tail", "/api/v1/tail"), "");
    }
}
