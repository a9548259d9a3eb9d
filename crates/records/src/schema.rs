//! The tables, as Diesel sees them.
#![allow(missing_docs, unreachable_pub, reason = "the macro's own items")]

diesel::table! {
    revision (number) {
        number -> BigInt,
        at_ms -> BigInt,
        who -> Text,
        why -> Text,
        text -> Text,
    }
}

diesel::table! {
    token (id) {
        id -> BigInt,
        name -> Text,
        kind -> Text,
        hash -> Binary,
        made_ms -> BigInt,
        expires_ms -> Nullable<BigInt>,
        used_ms -> Nullable<BigInt>,
    }
}

diesel::table! {
    secret (name) {
        name -> Text,
        nonce -> Binary,
        sealed -> Binary,
        set_ms -> BigInt,
    }
}

diesel::table! {
    paused (destination) {
        destination -> Text,
        at_ms -> BigInt,
        who -> Text,
    }
}

diesel::table! {
    paused_source (source) {
        source -> Text,
        at_ms -> BigInt,
        who -> Text,
    }
}
