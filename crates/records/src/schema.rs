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
    forecast (revision) {
        revision -> BigInt,
        content -> Text,
    }
}

diesel::table! {
    declined (id) {
        id -> Text,
        at_ms -> BigInt,
        who -> Text,
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
        grants -> Text,
        person -> Nullable<Text>,
        parent -> Nullable<BigInt>,
        used_from -> Nullable<Text>,
        made_by -> Text,
    }
}

diesel::table! {
    secret (name) {
        name -> Text,
        nonce -> Binary,
        sealed -> Binary,
        set_ms -> BigInt,
        shown_to -> Text,
    }
}

diesel::table! {
    lift (budget) {
        budget -> Text,
        until_ms -> BigInt,
        who -> Text,
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
    draft (who) {
        who -> Text,
        revision -> BigInt,
        version -> BigInt,
        at_ms -> BigInt,
        text -> Text,
    }
}

diesel::table! {
    paused_source (source) {
        source -> Text,
        at_ms -> BigInt,
        who -> Text,
    }
}

diesel::table! {
    person (name) {
        name -> Text,
        grants -> Text,
        password -> Nullable<Text>,
        made_ms -> BigInt,
        made_by -> Text,
        account -> Nullable<Text>,
    }
}

diesel::table! {
    journal (number) {
        number -> BigInt,
        at_ms -> BigInt,
        who -> Text,
        address -> Text,
        action -> Text,
        subject -> Text,
        result -> Text,
        hash -> Binary,
    }
}

diesel::table! {
    journal_start (number) {
        number -> BigInt,
        hash -> Binary,
    }
}

diesel::table! {
    alert (name) {
        name -> Text,
        phase -> Text,
        since_ms -> BigInt,
        told_ms -> BigInt,
        is_told -> Bool,
        acknowledged_by -> Nullable<Text>,
        says -> Text,
    }
}

diesel::table! {
    silence (alert) {
        alert -> Text,
        until_ms -> BigInt,
        who -> Text,
    }
}

diesel::table! {
    notice (number) {
        number -> BigInt,
        at_ms -> BigInt,
        alert -> Text,
        turn -> Text,
        severity -> Text,
        says -> Text,
        watches -> Text,
        advice -> Nullable<Text>,
        since_ms -> BigInt,
    }
}

diesel::table! {
    authority (id) {
        id -> Integer,
        certificate -> Text,
        sealed -> Binary,
        door -> Nullable<Binary>,
    }
}

diesel::table! {
    enrol_code (id) {
        id -> BigInt,
        hash -> Binary,
        group_name -> Text,
        uses_left -> Integer,
        made_ms -> BigInt,
        made_by -> Text,
        expires_ms -> BigInt,
    }
}

diesel::table! {
    rollout (id) {
        id -> Integer,
        state -> Text,
    }
}

diesel::table! {
    stage (revision) {
        revision -> BigInt,
        state -> Text,
    }
}

diesel::table! {
    agent (id) {
        id -> Text,
        name -> Text,
        group_name -> Text,
        key -> Binary,
        certificate -> Binary,
        previous -> Nullable<Binary>,
        signed_ms -> BigInt,
        enrolled_ms -> BigInt,
        code -> BigInt,
        seen_ms -> BigInt,
        facts -> Text,
        said -> Text,
        labels -> Text,
    }
}
