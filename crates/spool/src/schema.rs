//! The tables, as Diesel sees them.
#![allow(missing_docs, unreachable_pub, reason = "the macro's own items")]

diesel::table! {
    batch (id) {
        id -> BigInt,
        source -> Text,
        arrived_ms -> BigInt,
        packing -> Integer,
        size -> BigInt,
        uses -> BigInt,
        data -> Binary,
        checksum -> BigInt,
    }
}

diesel::table! {
    entry (id) {
        id -> BigInt,
        destination -> Text,
        route -> Text,
        batch -> BigInt,
        selection -> Binary,
        events -> BigInt,
        bytes -> BigInt,
        done -> BigInt,
        queued_ms -> BigInt,
        earlier -> Binary,
    }
}

diesel::table! {
    ledger_minute (minute, place, name, via, position, sentence, measure) {
        minute -> BigInt,
        place -> Text,
        name -> Text,
        via -> Text,
        position -> Integer,
        sentence -> Text,
        measure -> Text,
        events -> BigInt,
        bytes -> BigInt,
    }
}

diesel::table! {
    tag (name) {
        name -> Text,
        active -> Bool,
    }
}

diesel::table! {
    tag_account (id) {
        id -> BigInt,
        tag -> Text,
        value -> Text,
        place -> Text,
        name -> Text,
        via -> Text,
        position -> Integer,
        sentence -> Text,
        measure -> Text,
        events -> BigInt,
        bytes -> BigInt,
    }
}

diesel::table! {
    tag_pending (id) {
        id -> BigInt,
        amounts -> Binary,
    }
}

diesel::table! {
    rolled (one) {
        one -> Integer,
        until -> BigInt,
    }
}

diesel::table! {
    ledger_total (place, name, via, position, sentence, measure) {
        place -> Text,
        name -> Text,
        via -> Text,
        position -> Integer,
        sentence -> Text,
        measure -> Text,
        events -> BigInt,
        bytes -> BigInt,
    }
}

diesel::table! {
    quarantine (id) {
        id -> BigInt,
        at_ms -> BigInt,
        place -> Text,
        name -> Text,
        via -> Text,
        reason -> Text,
        data -> Binary,
        earlier -> Nullable<Binary>,
        size -> BigInt,
    }
}

diesel::table! {
    resent (id) {
        id -> BigInt,
        run -> BigInt,
        destination -> Text,
        entry -> BigInt,
        place -> BigInt,
        became -> Text,
        detail -> Text,
        again -> Nullable<BigInt>,
    }
}

diesel::table! {
    reached (destination) {
        destination -> Text,
        file -> Text,
        length -> BigInt,
    }
}

diesel::table! {
    due (destination) {
        destination -> Text,
        events -> BigInt,
        bytes -> BigInt,
    }
}

diesel::joinable!(entry -> batch (batch));
diesel::allow_tables_to_appear_in_same_query!(entry, batch);

diesel::table! {
    held (id) {
        id -> Binary,
        content -> Text,
    }
}

diesel::table! {
    metric_minute (minute, metric, labels) {
        minute -> BigInt,
        metric -> Text,
        labels -> Text,
        count -> Double,
        content -> Text,
    }
}

diesel::table! {
    metric_total (metric, labels) {
        metric -> Text,
        labels -> Text,
        count -> Double,
        content -> Text,
    }
}

diesel::table! {
    identity (name) {
        name -> Text,
    }
}

diesel::table! {
    position (source, id) {
        source -> Text,
        id -> Text,
        content -> Text,
    }
}

diesel::table! {
    taken_once (source, key) {
        source -> Text,
        key -> Text,
        at_ms -> BigInt,
        sum -> BigInt,
        receipt -> Text,
    }
}
