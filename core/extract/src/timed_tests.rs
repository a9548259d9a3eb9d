//! Lines of applications, by the dozen.

use super::timed::{read, tells_its_time};
use super::{Found, Name};

/// Time, severity, app, process, caller, message, logger and thread, `-` for none.
fn line(text: &str) -> Option<[String; 8]> {
    let (mut found, mut room) = (Found::default(), Vec::new());
    read(text.as_bytes(), &mut found, &mut room)?;
    let mut fields = ["-"; 8].map(str::to_owned);
    for (name, value) in &found.pairs {
        let Name::Known(number) = name else { unreachable!() };
        fields[usize::from(*number)] = serde_json::from_slice(found.value(value)).unwrap();
    }
    Some(fields)
}

#[test]
fn lines_of_all_sorts_of_applications() {
    for (text, expected) in [
        ("2026-11-23 10:00:00,123 WARN  [gate-7] no answer", ["2026-11-23T10:00:00.123", "WARN", "-", "-", "-", "[gate-7] no answer"]),
        ("2026-11-23T10:00:00.5+01:00 [info] gate open", ["2026-11-23T10:00:00.5+01:00", "info", "-", "-", "-", "gate open"]),
        ("[4711] 2026/11/23 10:00:00.533285 [INF] ready", ["2026-11-23T10:00:00.533285", "INF", "-", "4711", "-", "ready"]),
        ("23-Nov-2026 10:00:00.554 general: notice: all loaded", ["2026-11-23T10:00:00.554", "notice", "-", "-", "-", "all loaded"]),
        (
            "23-Nov-2026 10:00:00.205 INFO [main] ferries.Timetable.load 12 lines",
            ["2026-11-23T10:00:00.205", "INFO", "-", "-", "-", "[main] ferries.Timetable.load 12 lines"],
        ),
        ("Nov 23 10:00:00 names[4711]: started", ["Nov 23 10:00:00", "-", "names", "4711", "-", "started"]),
        ("NOTICE    Nov  3 10:00:00.586 [16258]: Initializing ...", ["Nov 03 10:00:00.586", "NOTICE", "-", "16258", "-", "Initializing ..."]),
        ("[1795428000] names[16259:0] notice: init module 0", ["1795428000", "notice", "names", "16259:0", "-", "init module 0"]),
        ("1795428000: broker 2 running", ["1795428000", "-", "-", "-", "-", "broker 2 running"]),
        ("17:M 23 Nov 2026 10:00:00.123 * gates are ready", ["2026-11-23T10:00:00.123", "-", "-", "17", "-", "gates are ready"]),
        ("2026-11-23 10:00:00.123 UTC [4711] LOG:  ready", ["2026-11-23T10:00:00.123Z", "LOG", "-", "4711", "-", "ready"]),
        ("2026-11-23 10:00:00 0 [Note] Quays: using 4 berths", ["2026-11-23T10:00:00", "Note", "-", "0", "-", "Quays: using 4 berths"]),
        ("2026-11-23 10:00:00.489700 W | pkg/gate: no answer", ["2026-11-23T10:00:00.489700", "warn", "-", "-", "-", "pkg/gate: no answer"]),
        ("2026-11-23T10:00:00.489Z\tinfo\tgate.go:17\topen", ["2026-11-23T10:00:00.489Z", "info", "-", "-", "gate.go:17", "open"]),
        ("[2026-11-23T10:00:00+0000] info     :  gate open", ["2026-11-23T10:00:00Z", "info", "-", "-", "-", "gate open"]),
        ("[2026-11-23  10:00:00] EROR main/main no berth", ["2026-11-23T10:00:00", "EROR", "-", "-", "-", "main/main no berth"]),
        ("2026-11-23 10:00:00.736612+00:00 [notice] <0.223.0> started", ["2026-11-23T10:00:00.736612Z", "notice", "-", "-", "-", "<0.223.0> started"]),
        ("W1123 10:00:00.123456    4711 gate.go:17] no answer", ["Nov 23 10:00:00.123456", "warn", "-", "4711", "gate.go:17", "no answer"]),
        ("E1123 10:00:00.1 7 a.go:1]é", ["Nov 23 10:00:00.1", "error", "-", "7", "a.go:1", "é"]),
        ("Mon Nov 23 10:00:00 2026 [pid 3] CONNECT", ["2026-11-23T10:00:00", "-", "-", "-", "-", "[pid 3] CONNECT"]),
        ("Mon Nov 23 10:00:00 CET 2026 up", ["2026-11-23T10:00:00+01:00", "-", "-", "-", "-", "up"]),
        ("Mon, 23 Nov 2026 10:00:00 -0330 up", ["2026-11-23T10:00:00-03:30", "-", "-", "-", "-", "up"]),
        ("Nov 23, 2026 6:40:16 PM ferries.Gate open", ["2026-11-23T18:40:16", "-", "-", "-", "-", "ferries.Gate open"]),
        ("11/23/2026 12:40:16 AM Error: no berth", ["2026-11-23T00:40:16", "Error", "-", "-", "-", "no berth"]),
        ("2026:11:23-10:00:45: up", ["2026-11-23T10:00:45", "-", "-", "-", "-", "up"]),
        ("20261123T100000Z up", ["2026-11-23T10:00:00Z", "-", "-", "-", "-", "up"]),
        ("261123 10:00:02 [Warning] slow", ["2026-11-23T10:00:02", "Warning", "-", "-", "-", "slow"]),
        ("2026-11-23 10:00:00 error opening the gate", ["2026-11-23T10:00:00", "-", "-", "-", "-", "error opening the gate"]),
        ("2026-11-23 10:00:00 -5 degrees", ["2026-11-23T10:00:00", "-", "-", "-", "-", "-5 degrees"]),
        ("2026-11-23 10:00:00", ["2026-11-23T10:00:00", "-", "-", "-", "-", ""]),
        // In the middle: all of it is the message.
        (
            "192.0.2.7:33184 [23/Nov/2026:10:00:00.274] quays 200",
            ["2026-11-23T10:00:00.274", "-", "-", "-", "-", "192.0.2.7:33184 [23/Nov/2026:10:00:00.274] quays 200"],
        ),
        ("E, [2026-11-23T10:00:00.133406 #4711] ERROR -- : no berth", ["2026-11-23T10:00:00.133406", "ERROR", "-", "4711", "-", "no berth"]),
        ("D [23/Nov/2026:10:00:00 +0000] opened", ["2026-11-23T10:00:00Z", "debug", "-", "-", "-", "opened"]),
        ("[2026/11/23 10:00:00.37,  0] quay.c:17", ["2026-11-23T10:00:00.37", "-", "-", "-", "-", "[2026/11/23 10:00:00.37,  0] quay.c:17"]),
        ("CONNECT   Nov 23 10:00:00.586 [1]: 192.0.2.7", ["Nov 23 10:00:00.586", "-", "-", "-", "-", "CONNECT   Nov 23 10:00:00.586 [1]: 192.0.2.7"]),
        ("Nov 23, 2026 6:40:16 PM Gate open\nINFO: opened", ["2026-11-23T18:40:16", "INFO", "-", "-", "-", "Gate open\nINFO: opened"]),
        ("2026-11-23 10:00:00 --- opened", ["2026-11-23T10:00:00", "-", "-", "-", "-", "opened"]),
        ("2026-11-23 10:00:00 --verbose is on", ["2026-11-23T10:00:00", "-", "-", "-", "-", "--verbose is on"]),
        ("gate-7 2026-11-23 10:00:00 ERROR stuck", ["2026-11-23T10:00:00", "ERROR", "-", "-", "-", "gate-7 2026-11-23 10:00:00 ERROR stuck"]),
    ] {
        assert_eq!(line(text).unwrap_or_else(|| panic!("{text}"))[..6], expected, "{text}");
    }
}

/// Level, logger and message are found by what they are, in whatever order.
#[test]
fn lines_of_logging_libraries() {
    for (text, [severity, logger, thread, process, caller, message]) in [
        ("2026-11-23T10:00:00Z INFO gates.timetable: loaded 12", ["INFO", "gates.timetable", "-", "-", "-", "loaded 12"]),
        ("2026-11-23 10:00:00,123 - gates.timetable - WARNING - slow", ["WARNING", "gates.timetable", "-", "-", "-", "slow"]),
        ("2026-11-23 10:00:00.123  INFO 4711 --- [main] e.f.gates.Timetable : up", ["INFO", "e.f.gates.Timetable", "main", "4711", "-", "up"]),
        ("2026-11-23 10:00:00,123 ERROR [pool 1] e.ferries.Gates - stuck", ["ERROR", "e.ferries.Gates", "pool 1", "-", "-", "stuck"]),
        ("[2026-11-23 10:00:00,123] WARN [gate 4] slow (ferries.gates.Berth)", ["WARN", "ferries.gates.Berth", "-", "-", "-", "[gate 4] slow"]),
        ("[2026-11-23 10:00:00,123: INFO/MainProcess] Task ends", ["INFO", "-", "MainProcess", "-", "-", "Task ends"]),
        ("[2026-11-23T10:00:00Z INFO  gates::timetable] loaded", ["INFO", "gates::timetable", "-", "-", "-", "loaded"]),
        ("[2026-11-23T10:00:00,123][INFO ][o.f.g.Timetable    ] [quay-4] loaded", ["INFO", "o.f.g.Timetable", "-", "-", "-", "[quay-4] loaded"]),
        ("2026-11-23T10:00:00.5Z\tINFO\tgates/timetable.go:17\tloaded", ["INFO", "-", "-", "-", "gates/timetable.go:17", "loaded"]),
        ("2026-11-23T10:00:00Z ERROR gates::timetable: failed n=12", ["ERROR", "gates::timetable", "-", "-", "-", "failed n=12"]),
        ("2026-11-23T10:00:00Z [gates] info: loaded", ["info", "-", "gates", "-", "-", "loaded"]),
        ("2026-11-23 10:00:00.1234|ERROR|Gates.Timetable|no berth", ["ERROR", "Gates.Timetable", "-", "-", "-", "no berth"]),
        ("[2026-11-23T10:00:00+00:00] gates.ERROR: no berth {}", ["ERROR", "gates", "-", "-", "-", "no berth {}"]),
        ("2026-11-23T10:00:00.1Z W STORAGE  [init] slow", ["warn", "STORAGE", "-", "-", "-", "[init] slow"]),
        ("2026-11-23T10:00:00.1Z 0 [Warning] [Server] old", ["Warning", "-", "-", "0", "-", "[Server] old"]),
        ("INFO  [main] 2026-11-23 10:00:00,123 Gates.java:17 - loaded", ["INFO", "-", "main", "-", "Gates.java:17", "loaded"]),
        ("2026-11-23 10:00:00.123 4711 INFO gates.timetable [-] loaded", ["INFO", "gates.timetable", "-", "4711", "-", "loaded"]),
        ("gates.timetable: ERROR: 2026-11-23 10:00:00,123: no berth", ["ERROR", "gates.timetable", "-", "-", "-", "no berth"]),
        ("2026-11-23 10:00:00 general: notice: all loaded", ["notice", "general", "-", "-", "-", "all loaded"]),
        // Words that only look like it.
        ("2026-11-23 10:00:00 INFO Note: berth 4 is free", ["INFO", "-", "-", "-", "-", "Note: berth 4 is free"]),
        ("2026-11-23 10:00:00 www.ferries.example: no answer", ["-", "-", "-", "-", "-", "www.ferries.example: no answer"]),
        ("2026-11-23 10:00:00 INFO opened timetable.txt (12 lines)", ["INFO", "-", "-", "-", "-", "opened timetable.txt (12 lines)"]),
        ("2026-11-23 10:00:00 4711 tickets sold", ["-", "-", "-", "-", "-", "4711 tickets sold"]),
        ("2026-11-23 10:00:00 I AM late", ["info", "AM", "-", "-", "-", "late"]),
    ] {
        let [_, found_severity, _, found_process, found_caller, found_message, found_logger, found_thread] = line(text).unwrap_or_else(|| panic!("{text}"));
        let found = [found_severity, found_logger, found_thread, found_process, found_caller, found_message];
        assert_eq!(found, [severity, logger, thread, process, caller, message], "{text}");
    }
}

#[test]
fn times_in_the_writings_of_many_programs() {
    for (text, time, message) in [
        ("09/29-08:25:54.123456 [**] a scan", "Sep 29 08:25:54.123456", "[**] a scan"),
        ("Apr-07-13 09:11:12 mail accepted", "2013-04-07T09:11:12", "mail accepted"),
        ("07-Apr-13 09:11:12 mail accepted", "2013-04-07T09:11:12", "mail accepted"),
        ("2015/01/01 - 01:25:17 | 200 | 12 ms", "2015-01-01T01:25:17", "200 | 12 ms"),
        ("@400000006bff3b6a1d4c5b6c tide: high", "1811888992.491543404", "tide: high"),
        ("23. M\u{e4}rz 2026 10:00:00 Tor offen", "2026-03-23T10:00:00", "Tor offen"),
        ("24 Dez 2026 10:00:01 Tor zu", "2026-12-24T10:00:01", "Tor zu"),
        ("23 f\u{e9}vr. 2026 10:00:00 porte ouverte", "2026-02-23T10:00:00", "porte ouverte"),
        ("23 nov. 2026 10:00:00 porte ferm\u{e9}e", "2026-11-23T10:00:00", "porte ferm\u{e9}e"),
        ("ago 23 10:00:00 abierta", "Aug 23 10:00:00", "abierta"),
        ("November 23, 2026 10:00:00 open", "2026-11-23T10:00:00", "open"),
    ] {
        let found = line(text).unwrap_or_else(|| panic!("{text}"));
        assert_eq!([found[0].as_str(), found[5].as_str()], [time, message], "{text}");
    }
    for text in ["@4000000000000000 x", "@40000000 gate", "@quay 10:00:00", "09/29-08:25:54 x", "29/09-08:25:54.1 x", "may 23 tickets"] {
        assert_eq!(line(text), None, "{text}");
    }
}

#[test]
fn a_line_that_goes_on_tells_no_time() {
    let tells = |text: &str| tells_its_time(text.as_bytes(), &mut Vec::new());
    assert!(
        tells("2026-11-23 10:00:00 x") && tells("# Time: 261123 10:00:02") && tells("gates: 2026/11/23 10:00:00 x") && tells("I1123 10:00:00.1 7 a.go:1] x")
    );
    assert!(!tells("  2026-11-23 10:00:00 x") && !tells("Caused by: x") && !tells(""));
    assert!(!tells("the timetable that was read in at the quay on 2026-11-23 10:00:00"));
}

#[test]
fn what_could_be_something_else_is_no_time() {
    for text in [
        "",
        "gate open",
        "11/12/2026 10:00:00 gate open",
        "2026-11-23",
        "2026-13-23 10:00:00 x",
        "2026-11-23 25:00:00 x",
        "1795428000123456 x",
        "17954280001 x",
        "0795428000 x",
        "call 1795428000 now",
        "on Nov 23 10:00:00 it was open",
        "123456 tickets 10:00:00",
        "10:00:00 gate open",
        "May be 10:00",
        "[    0.000000] Linux version",
        "W1123 gate.go:17] no answer",
    ] {
        assert_eq!(line(text), None, "{text}");
    }
}
