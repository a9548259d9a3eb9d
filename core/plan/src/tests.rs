//! Plans that are right, and each kind of mistake at its place.

use rockrose_language::parse_step;

use super::*;

const GOOD: &str = r#"
[source.kiosks]
kind = "http"
listen = "127.0.0.1:8610"
key = { secret = "kiosks" }
on_arrival = ['tag line = "kiosk"']
max_body = "2 MB"

[destination.desk]
kind = "http"
endpoints = ["http://127.0.0.1:9410/in"]
token = { secret = "desk" }
always = ['redact email, card keep last 4']
price = { per_gb = 2.40, currency = "EUR" }
timeout = "5 seconds"

[destination.vault]
kind = "file"
path = "vault.jsonl"

[recipe.quiet]
steps = ["drop severity < info"]

[[route]]
name = "trouble"
from = ["kiosks"]
when = 'severity >= warn'
do = ["use quiet", 'trim message to 2 KB']
to = ["desk", "vault"]

[[route]]
name = "rest"
when = "remainder"
to = ["vault"]
"#;

#[test]
fn a_good_plan_is_read_whole() {
    let plan = CheckedPlan::read(GOOD).unwrap();
    assert!(plan.warnings.is_empty());
    assert_eq!(plan.sources[0].max_body, 2_000_000);
    assert_eq!(plan.secrets(), [&SecretName("desk".into()), &SecretName("kiosks".into())]);
    assert_eq!(plan.routes[1].when, Gate::Remainder);
    assert_eq!(plan.expanded(&plan.routes[0].steps)[0], parse_step("drop severity < info").unwrap());
    let DestinationKind::Http(http) = &plan.destinations[0].kind else { panic!("desk is http") };
    assert_eq!((http.timeout.as_secs(), http.compression), (5, Compression::Gzip));
    assert!(CheckedPlan::read("").unwrap().routes.is_empty());
}

/// Changes GOOD in one place; the one report must stand on `at` and suggest `nearest`.
fn wrong(from: &str, to: &str, at: &str, nearest: Option<&str>) {
    assert_eq!(GOOD.matches(from).count(), 1, "{from}");
    let text = GOOD.replace(from, to);
    let reports = CheckedPlan::read(&text).map(|_| ()).expect_err(to);
    assert_eq!(reports.len(), 1, "{to}: {reports:#?}");
    let r = &reports[0];
    let line = text.lines().nth(r.line - 1).unwrap();
    let here: String = line.chars().skip(r.column - 1).take(r.length).collect();
    assert_eq!(here, at, "{to}: {r:#?}");
    assert_eq!(r.nearest.as_deref(), nearest, "{to}: {r:#?}");
    assert!(r.render("plan.toml").contains('^'));
}

#[test]
fn each_kind_of_mistake_points_at_its_place() {
    wrong("[source.kiosks]", "[sorce.kiosks]", "sorce", Some("source"));
}

#[test]
fn each_kind_of_mistake_points_at_its_place_in_a_section() {
    wrong("listen =", "lisen =", "lisen", Some("listen"));
}

#[test]
fn values_point() {
    wrong("kind = \"file\"", "kind = \"fil\"", "\"fil\"", Some("file"));
    wrong("\"127.0.0.1:8610\"", "\"localhost\"", "\"localhost\"", None);
    wrong("\"127.0.0.1:8610\"", "8610", "8610", None);
    wrong("\"2 MB\"", "\"2 XB\"", "\"2 XB\"", None);
    wrong("\"2 MB\"", "\"0 MB\"", "\"0 MB\"", None);
    wrong("\"5 seconds\"", "\"soon\"", "\"soon\"", None);
    wrong("{ secret = \"desk\" }", "\"hunter2\"", "\"hunter2\"", None);
    wrong("{ secret = \"desk\" }", "{ secert = \"desk\" }", "secert", Some("secret"));
    wrong("per_gb = 2.40", "per_gb = -1", "-1", None);
    wrong("per_gb = 2.40", "per_gb = 2.4000001", "2.4000001", None);
    wrong("per_gb = 2.40", "per_tb = 2.40", "per_tb", Some("per_gb"));
    wrong("per_gb = 2.40, ", "", "{ currency = \"EUR\" }", None);
    wrong("\"EUR\"", "\"euro\"", "\"euro\"", None);
    wrong("[\"http://127.0.0.1:9410/in\"]", "[\"ftp://x\"]", "\"ftp://x\"", None);
    wrong("[\"http://127.0.0.1:9410/in\"]", "[\"http://u:p@x/\"]", "\"http://u:p@x/\"", None);
    wrong("[\"http://127.0.0.1:9410/in\"]", "[]", "[]", None);
    wrong("[\"kiosks\"]", "[\"kioks\"]", "\"kioks\"", Some("kiosks"));
    wrong("[\"desk\", \"vault\"]", "[\"desk\", \"valt\"]", "\"valt\"", Some("vault"));
    wrong("[\"desk\", \"vault\"]", "[\"desk\", \"desk\"]", "\"desk\"", None);
    wrong("name = \"rest\"", "name = \"trouble\"", "\"trouble\"", None);
    wrong("name = \"rest\"", "name = \"the rest\"", "\"the rest\"", None);
    wrong("steps = [\"drop severity < info\"]", "steps = [\"use quiet\"]", "quiet", None);
    wrong("path = \"vault.jsonl\"", "path = \"vault/\"", "\"vault/\"", None);
    wrong("path = \"vault.jsonl\"", "path = \"v\"\ntoken = { secret = \"x\" }", "{ secret = \"x\" }", None);
    wrong("path = \"vault.jsonl\"", "", "vault", None);
    wrong("[\"desk\", \"vault\"]", "[]", "[]", None);
}

#[test]
fn what_belongs_to_a_network_points() {
    let token = "token = { secret = \"desk\" }";
    wrong(token, "user = \"ann\"", "\"ann\"", None);
    wrong(token, "password = { secret = \"desk\" }", "{ secret = \"desk\" }", None);
    wrong(token, "user = \"a:b\"\npassword = { secret = \"desk\" }", "\"a:b\"", None);
    wrong(token, &format!("{token}\nuser = \"ann\""), "{ secret = \"desk\" }", None);
    wrong(token, "headers = { \"x team\" = \"quays\" }", "\"x team\"", None);
    wrong(token, "headers = { Authorization = \"x\" }", "Authorization", None);
    wrong(token, "headers = { x-team = \"qu\u{e4}ys\" }", "\"qu\u{e4}ys\"", None);
    wrong(token, "headers = { x-team = 7 }", "7", None);
    wrong(token, "headers = { x-team = { secert = \"x\" } }", "secert", Some("secret"));
    wrong(token, "client_key = \"k.pem\"", "\"k.pem\"", None);
    wrong(token, "spread = \"in trun\"", "\"in trun\"", Some("in turn"));
    wrong(token, "format = \"json arry\"", "\"json arry\"", Some("json array"));
    wrong(token, "address = \"tcp://x:1\"", "\"tcp://x:1\"", None);
    wrong(token, "forward = \"the other\"", "\"the other\"", None);
    wrong(token, "forward = \"unknown\"\nformat = \"json array\"", "\"json array\"", None);
    let file = "kind = \"file\"\npath = \"vault.jsonl\"";
    for address in ["tcp://quay", "http://quay:1", "tcp://quay:0", "tcp://:514", "tcp://qu ay:514", "udp://quay:70000"] {
        wrong(file, &format!("kind = \"syslog\"\naddress = \"{address}\""), &format!("\"{address}\""), None);
    }
    wrong(file, "kind = \"syslog\"\naddress = \"tls://[2001:db8::1]:6514\"\nfacility = \"local9\"", "\"local9\"", Some("local0"));
}

#[test]
fn what_belongs_to_a_file_points() {
    let path = "path = \"vault.jsonl\"";
    wrong(path, &format!("{path}\nlayout = \"csv\""), "\"csv\"", None);
    wrong(path, &format!("{path}\nlayout = \"text\""), "\"text\"", None);
    wrong(path, &format!("{path}\nlayout = \"txt\""), "\"txt\"", Some("text"));
    wrong(path, &format!("{path}\nlayout = \"text\"\ntemplate = \"a {{b\""), "{", None);
    wrong(path, &format!("{path}\ntemplate = \"{{a}}\""), "\"{a}\"", None);
    wrong(path, &format!("{path}\ncolumns = [\"a\"]"), "[\"a\"]", None);
    wrong(path, &format!("{path}\nrotate_every = \"week\""), "\"week\"", None);
    wrong(path, &format!("{path}\nkeep_files = 0"), "0", None);
    let good = GOOD
        .replace(path, &format!("{path}\nlayout = \"text\"\ntemplate = \"{{time}} {{message}}\"\nrotate_at = \"1 GB\"\nkeep_files = 3\ncompress = \"zstd\""));
    let plan = CheckedPlan::read(&good).unwrap();
    let Some(DestinationKind::File(file)) = plan.destinations.iter().map(|d| &d.kind).find(|k| k.word() == "file") else { panic!() };
    assert_eq!((file.layout.clone(), file.compression, file.keep_files), (Layout::Text("{time} {message}".into()), Compression::Zstd, Some(3)));
}

#[test]
fn what_belongs_to_an_archive_points() {
    let file = "kind = \"file\"\npath = \"vault.jsonl\"";
    let archive = "kind = \"archive\"\nstore = \"s3://vault/logs\"";
    for (more, at) in [
        ("access_key = \"quay\"", "\"quay\""),
        ("divide_by = [\"date\", \"a b\"]", "\"a b\""),
        ("objects = \"csv\"", "\"csv\""),
        ("object_at = \"1 GB\"", "\"1 GB\""),
        ("events = \"as received\"\nalways = ['redact email']", "['redact email']"),
        ("client_key = \"x.pem\"", "\"x.pem\""),
    ] {
        wrong(file, &format!("{archive}\n{more}"), at, None);
    }
    wrong(file, "kind = \"archive\"\nstore = \"s3://V!\"", "\"s3://V!\"", None);
    wrong(file, "kind = \"archive\"\nstore = \"/vault\"\nregion = \"north\"", "\"north\"", None);
    let plan =
        CheckedPlan::read(&GOOD.replace(file, &format!("{archive}\naccess_key = \"quay\"\naccess_secret = {{ secret = \"ak\" }}\ndivide_by = [\"service\"]")))
            .unwrap();
    assert!(plan.secrets().iter().any(|s| s.0 == "ak"));
    let Some(DestinationKind::Archive(kept)) = plan.destinations.iter().map(|d| &d.kind).find(|k| k.word() == "archive") else { panic!() };
    let bucket =
        StoreLocation::Bucket { bucket: "vault".into(), prefix: "logs".into(), endpoint: None, region: "us-east-1".into(), access_key: Some("quay".into()) };
    assert_eq!((&kept.store, &kept.divide_by[..], kept.object_at), (&bucket, &[rockrose_archive::Part::Field("service".into())][..], 32_000_000));
}

#[test]
fn an_otlp_endpoint_has_the_usual_path_over_http() {
    let file = "kind = \"file\"\npath = \"vault.jsonl\"";
    let read = |more: &str| {
        let urls = "endpoints = [\"http://a.example:4318\", \"http://b.example/\", \"http://c.example/own?x=/\"]";
        let plan = CheckedPlan::read(&GOOD.replace(file, &format!("kind = \"otlp\"\n{urls}\n{more}"))).unwrap();
        let found = plan.destinations.iter().find_map(|d| if let DestinationKind::Otlp(otlp) = &d.kind { Some(otlp.clone()) } else { None });
        found.unwrap()
    };
    let otlp = read("");
    assert_eq!(otlp.http.endpoints, ["http://a.example:4318/v1/logs", "http://b.example/v1/logs", "http://c.example/own?x=/"]);
    assert_eq!((otlp.grpc, otlp.http.form, read("transport = \"http json\"").http.form), (false, BodyForm::Otlp, BodyForm::OtlpJson));
    let otlp = read("transport = \"grpc\"");
    assert_eq!((otlp.grpc, otlp.http.endpoints[0].as_str()), (true, "http://a.example:4318"));
    wrong(file, "kind = \"otlp\"\nendpoints = [\"http://a.example\"]\nformat = \"json array\"", "\"json array\"", None);
}

#[test]
fn secrets_of_every_sort_are_known() {
    let text = GOOD.replace(
        "token = { secret = \"desk\" }",
        "user = \"ann\"\npassword = { secret = \"pw\" }\nheaders = { x-key = { secret = \"hk\" }, x-team = \"quays\" }",
    );
    let plan = CheckedPlan::read(&text).unwrap();
    assert_eq!(plan.secrets().iter().map(|s| s.0.as_str()).collect::<Vec<_>>(), ["hk", "kiosks", "pw"]);
}

#[test]
fn sentences_point_inside_their_string_however_it_is_quoted() {
    wrong("'severity >= warn'", "'severity >= wran'", "wran", Some("warn"));
    wrong("'severity >= warn'", "\"x = \\\"a\\\" adn y = 1\"", "adn", Some("and"));
    wrong("'severity >= warn'", "'''\nx = 1 adn y = 1'''", "adn", Some("and"));
    wrong("'severity >= warn'", "\"\"\"x = \\u0022é\\u0022 adn y = 1\"\"\"", "adn", Some("and"));
    wrong("\"use quiet\"", "\"use quite\"", "quite", Some("quiet"));
    wrong("'trim message to 2 KB'", "'trimm message to 2 KB'", "trimm", Some("trim"));
}

#[test]
fn a_key_of_another_kind_suggests_the_one_of_its_own() {
    for value in ["['http://127.0.0.1:1/in']", "'http://127.0.0.1:1/in'"] {
        let text = format!("[destination.d]\nkind='http'\nendpoint={value}\n");
        let reports = CheckedPlan::read(&text).map(|_| ()).unwrap_err();
        let said: Vec<(usize, &str, Option<&str>)> = reports.iter().map(|r| (r.line, r.message.as_str(), r.nearest.as_deref())).collect();
        assert_eq!(said, [(3, "a destination of kind `http` has no `endpoint`", Some("endpoints"))], "{reports:#?}");
    }
}

#[test]
fn what_is_kept_as_received_is_not_redacted_and_that_is_said() {
    let warned = |events: &str, arrival: &str, route: &str| {
        let text = format!(
            "[source.s]\nkind='http'\nlisten='127.0.0.1:1'\non_arrival=[{arrival}]\n[destination.d]\nkind='archive'\nstore='/var/archive'\nevents='{events}'\n\
             [recipe.safe]\nsteps=['redact email']\n[[route]]\nname='a'\ndo=[{route}]\nto=['d']\n"
        );
        let plan = CheckedPlan::read(&text).unwrap_or_else(|r| panic!("{}", r.iter().map(|r| r.render("plan")).collect::<String>()));
        plan.warnings.iter().map(|w| (w.line, w.message.clone())).collect::<Vec<_>>()
    };
    let says = |step: &str, of: &str| vec![(8, format!("`d` keeps events as they were received, without what `{step}` of {of} masks"))];
    assert_eq!(warned("as received", "", "'use safe'"), says("redact email", "the route `a`"));
    assert_eq!(warned("as received", "'redact card'", "'tag x = 1'"), says("redact card", "the source `s`"));
    assert_eq!(warned("as received", "", "'tag x = 1'"), []);
    assert_eq!(warned("as shaped", "'redact card'", "'use safe'"), []);
}

#[test]
fn a_key_by_another_name_suggests_the_one_that_is_meant() {
    let one = |text: &str| {
        let reports = CheckedPlan::read(text).map(|_| ()).unwrap_err();
        (reports[0].message.clone(), reports[0].nearest.clone(), reports[0].expected.clone().unwrap_or_default())
    };
    let (message, nearest, expected) = one("[destination.d]\nkind='http'\nurl='http://127.0.0.1:1/in'\n");
    assert_eq!((message.as_str(), nearest.as_deref()), ("a destination of kind `http` has no `url`", Some("endpoints")));
    // What it still needs comes first, and what other kinds have is not there.
    assert!(expected.starts_with("one of `endpoints`, `kind`") && !expected.contains("`path`"), "{expected}");
    assert_eq!(one("[source.s]\nkind='http'\nport=1\n").1.as_deref(), Some("listen"));
    assert_eq!(one("[source.s]\nkind='file'\nfiles=['/a']\n").1.as_deref(), Some("paths"));
    assert_eq!(one("[[route]]\nname='r'\nfilter='a = 1'\nto=['d']\n").1.as_deref(), Some("when"));
    assert_eq!(one("[source.s]\nkind='http'\nlisten='127.0.0.1:1'\ncolour='red'\n").1, None);
}

#[test]
fn toml_itself_can_be_wrong() {
    let reports = CheckedPlan::read("[source.kiosks\nkind = 1").map(|_| ()).unwrap_err();
    assert!(reports[0].message.contains("TOML") && reports[0].line == 1, "{reports:?}");
    // A backslash that TOML takes for its own.
    let lost = CheckedPlan::read("[[route]]\nname = \"r\"\nwhen = \"m matches /\\d+/\"\n").map(|_| ()).unwrap_err();
    assert!(lost[0].expected.as_deref().is_some_and(|e| e.contains("single quotes")), "{lost:?}");
    // A section that stands twice is one mistake.
    let twice = format!("{GOOD}\n[source.kiosks]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[source.late]\nkind = 1\nkind = 2\n");
    let reports = CheckedPlan::read(&twice).map(|_| ()).unwrap_err();
    assert_eq!(reports.len(), 2, "{reports:?}");
    assert!(reports[0].message.contains("`[source.kiosks]` stands twice") && reports[1].message.contains("duplicate key"), "{reports:?}");
}

#[test]
fn a_recipe_tells_which_way_it_comes_back_and_which_parameter_it_has_not() {
    let recipes = "[recipe.a]\nsteps = ['use b']\n[recipe.b]\nsteps = ['drop x = 1', 'use c']\n[recipe.c]\nsteps = ['use a']\n\
        [recipe.d]\nparameters = [\"field\"]\nsteps = ['drop $feild = \"$5\"', 'drop $field matches /a$b/']\n[recipe.e]\nsteps = ['drop $field = 1']\n";
    let text = format!("{GOOD}\n{recipes}[[route]]\nname = \"e\"\ndo = ['use d(field = x)']\nto = [\"vault\"]\n");
    let reports = CheckedPlan::read(&text).map(|_| ()).unwrap_err();
    let said: Vec<(&str, Option<&str>)> = reports.iter().map(|r| (r.message.as_str(), r.nearest.as_deref())).collect();
    let expected = [
        ("the recipe `a` uses itself: a → b → c → a", None),
        ("the recipe has no parameter `feild`", Some("field")),
        ("the recipe has no parameter `field`", None),
    ];
    assert_eq!(said, expected);
}

#[test]
fn all_mistakes_are_reported_in_order() {
    let text = GOOD.replace("listen =", "lisen =").replace("kind = \"file\"", "kind = \"fil\"").replace("wran", "x");
    let shape = CheckedPlan::read(&text).map(|_| ()).unwrap_err();
    let said: Vec<(usize, &str)> = shape.iter().map(|r| (r.line, r.nearest.as_deref().unwrap_or_default())).collect();
    let (listen, kind) = (1 + GOOD.lines().position(|l| l.starts_with("listen =")).unwrap(), 1 + GOOD.lines().position(|l| l == "kind = \"file\"").unwrap());
    assert_eq!(said, [(listen, "listen"), (kind, "file")], "all at once, and what is missing is what was misspelt: {shape:#?}");
    let text = GOOD.replace(">= warn", ">= wran").replace("\"vault\"]\n\n[[", "\"valt\"]\n\n[[").replace("\"2 MB\"", "\"2\"");
    let meaning = CheckedPlan::read(&text).map(|_| ()).unwrap_err();
    assert_eq!(meaning.iter().map(|r| r.line).collect::<Vec<_>>(), [27, 29]);
}

#[test]
fn a_source_that_others_can_reach_needs_a_key() {
    wrong("listen = \"127.0.0.1:8610\"\nkey = { secret = \"kiosks\" }", "listen = \"0.0.0.0:8610\"", "\"0.0.0.0:8610\"", None);
}

#[test]
fn recipes_cannot_multiply_without_end() {
    let mut text = String::from("[destination.d]\nkind='discard'\n[recipe.r0]\nsteps=['tag x = 1']\n");
    for i in 1..60 {
        text.push_str(&format!("[recipe.r{i}]\nsteps=['use r{0}','use r{0}']\n", i - 1));
    }
    text.push_str("[[route]]\nname='a'\ndo=['use r59']\nto=['d']\n");
    let reports = CheckedPlan::read(&text).map(|_| ()).unwrap_err();
    assert!(reports[0].message.contains("1 000"), "{reports:?}");
}

#[test]
fn the_schema_knows_every_key_and_asks_for_the_needed_ones() {
    let schema = schema();
    let source = &schema["properties"]["source"]["additionalProperties"];
    assert_eq!(source["required"], serde_json::json!(["kind"]));
    let needs =
        |kind: &str| source["allOf"].as_array().unwrap().iter().find(|c| c["if"]["properties"]["kind"]["const"] == kind).unwrap()["then"]["required"].clone();
    assert_eq!((needs("http"), needs("file")), (serde_json::json!(["listen"]), serde_json::json!(["paths"])));
    let document: toml::Value = toml::from_str(GOOD).unwrap();
    for (table, keys) in [("source", "kiosks"), ("destination", "desk"), ("recipe", "quiet")] {
        for key in document[table][keys].as_table().unwrap().keys() {
            assert!(schema["properties"][table]["additionalProperties"]["properties"].get(key).is_some(), "{table}.{key}");
        }
    }
    let cases = schema["properties"]["destination"]["additionalProperties"]["allOf"].as_array().unwrap();
    assert!(cases.iter().any(|c| c["if"]["properties"]["kind"]["const"] == "file" && c["then"]["required"] == serde_json::json!(["path"])));
}

/// What is wrong with the source, destination or table `s` that has these keys.
fn wrong_with(kind: &str, keys: &str) -> Vec<String> {
    let part = format!("[{kind}.s]\n{keys}\n");
    let others = if kind == "destination" { "" } else { "[destination.d]\nkind='discard'\n" };
    CheckedPlan::read(&format!("{part}{others}")).map(|_| Vec::new()).unwrap_or_else(|reports| reports.into_iter().map(|r| r.message).collect())
}

#[test]
fn what_a_source_of_files_may_say() {
    let plan =
        CheckedPlan::read("[source.s]\nkind='file'\npaths=['/var/log/**/*.log', '/a[!]b]']\nbut_not=['*.tmp']\nbegin_at='start'\npath_as='log.file.path'")
            .unwrap();
    let SourceKind::File(files) = &plan.sources[0].kind else { panic!() };
    assert!(files.from_start && files.exclude == ["*.tmp"] && files.path_as.as_deref() == Some("log.file.path"));
    // The key's old name is read, with a warning.
    let old = CheckedPlan::read("[source.s]\nkind='file'\npaths=['/var/log/*.log']\nbut_not=['*.tmp']").unwrap();
    assert!(matches!(&old.sources[0].kind, SourceKind::File(files) if files.exclude == ["*.tmp"]));
    assert!(old.warnings.iter().any(|w| w.line == 4 && w.message.contains("`exclude`")), "{:?}", old.warnings);
    assert_eq!(plan.sources[0].place(), "/var/log/**/*.log, /a[!]b]");
    for (keys, expected) in [
        ("kind='file'", "the source `s` needs `paths`"),
        ("kind='file'\npaths=[]", "`paths` is empty"),
        ("kind='file'\npaths=['/a/[b']", "`/a/[b` is not a pattern of files: `[` is not closed"),
        ("kind='file'\npaths=['/a/**b']", "`/a/**b` is not a pattern of files: `**` stands for folders, between slashes"),
        ("kind='file'\npaths=['']", "`` is not a pattern of files: it is empty"),
        ("kind='file'\npaths=['/a']\nlisten='127.0.0.1:1'", "a source of kind `file` has no `listen`"),
        ("kind='file'\npaths=['/a']\nbegin_at='middle'", "unexpected `middle`"),
        ("kind='http'\nlisten='127.0.0.1:1'\nmay_set=['a b']", "`a b` is not a field that a request can set"),
        ("kind='tcp'\nlisten='127.0.0.1:1'\nmay_set=['a']", "a source of kind `tcp` has no `may_set`"),
    ] {
        assert_eq!(wrong_with("source", keys), [expected], "{keys}");
    }
}

#[test]
fn short_tables_stand_in_the_plan_and_order_takes_one_body_at_a_time() {
    assert!(wrong_with("table", "kind='csv'\nkey='a'\ntext=\"a,b\\n1,2\"").is_empty());
    assert_eq!(wrong_with("table", "kind='csv'\nkey='a'"), ["the table `s` stands in a file or in the plan"]);
    assert_eq!(wrong_with("table", "kind='csv'\nkey='a'\ntext='a'\npath='x'"), ["the table `s` stands in a file or in the plan"]);
    assert!(wrong_with("table", "kind='csv'\nkey='c'\ntext=\"a,b\\n1,2\"")[0].starts_with("the table `s` cannot be read"));
    let http = "kind='http'\nendpoints=['http://127.0.0.1:1/']\n";
    let plan = CheckedPlan::read(&format!("[destination.s]\n{http}ordered=true")).unwrap();
    assert_eq!(plan.destinations[0].in_flight, 1);
    assert_eq!(CheckedPlan::read(&format!("[destination.s]\n{http}ordered=false")).unwrap().destinations[0].in_flight, 4);
    assert_eq!(wrong_with("destination", &format!("{http}ordered=true\nin_flight=2")), ["several bodies on their way at once keep no order"]);
    assert_eq!(wrong_with("destination", &format!("{http}ordered='yes'")), ["unexpected a text"]);
}

#[test]
fn a_preferred_source_is_one_of_the_plan() {
    let plan = |name: &str| {
        let text = format!(
            "[source.gates]\nkind='http'\nlisten='127.0.0.1:1'\n[destination.d]\nkind='discard'\n[[route]]\nname='a'\ndo=['dedupe by id within 1 minute preferring {name}']\nto=['d']\n"
        );
        CheckedPlan::read(&text).map(|_| ()).map_err(|reports| (reports[0].message.clone(), reports[0].nearest.clone()))
    };
    assert_eq!(plan("gates"), Ok(()));
    assert_eq!(plan("gate"), Err(("there is no source `gate`".to_owned(), Some("gates".to_owned()))));
}

#[test]
fn steps_name_columns_that_their_table_has() {
    let read = |step: &str, file: Option<&'static str>| {
        let text = format!(
            "[table.inline]\nkind='csv'\nkey='code'\ntext=\"\"\"code,port,berths\nTQ,Tansy Quay,4\n\"\"\"\n[table.file]\nkind='csv'\nkey='code'\npath='ports.csv'\n\
             [source.s]\nkind='http'\nlisten='127.0.0.1:1'\n[destination.d]\nkind='discard'\n[recipe.r]\nsteps=['{step}']\n[[route]]\nname='a'\ndo=['use r']\nto=['d']\n"
        );
        let read = CheckedPlan::read_where(&text, crate::plain_path, |path| (path == "ports.csv").then_some(file?.as_bytes().to_vec()));
        read.map(|_| ()).map_err(|reports| (reports[0].message.clone(), reports[0].nearest.clone(), reports[0].expected.clone().unwrap_or_default()))
    };
    let odd = |table: &str, column: &str, near: Option<&str>| {
        Err((format!("the table `{table}` has no column `{column}`"), near.map(str::to_owned), "`port`, `berths`".to_owned()))
    };
    assert_eq!(read("look up at in inline as port, room = berths", None), Ok(()));
    assert_eq!(read("look up at in inline as room = berth", None), odd("inline", "berth", Some("berths")));
    assert_eq!(read("look up at in inline as size", None), odd("inline", "size", None));
    // The key is no column to take: it is what was looked up.
    assert_eq!(read("look up at in inline as x = code", None), odd("inline", "code", None));
    // A file is looked into where it is.
    assert_eq!(read("look up at in file as x = berth", None), Ok(()));
    assert_eq!(read("look up at in file as x = berth", Some("\u{feff}\"code\",port,berths\nTQ,\"half a li")), odd("file", "berth", Some("berths")));
    assert_eq!(read("look up at in file as x = berth", Some("code,name\nTQ,x\n")), Ok(()), "the only column goes by any name");
}

#[test]
fn a_file_belongs_to_one_destination_of_a_plan() {
    let text = "[destination.a]\nkind='file'\npath='/var/log/x.jsonl'\n[destination.b]\nkind='file'\npath='/var/log/./old/../x.jsonl'\n[destination.c]\nkind='file'\npath='/var/log/y.jsonl'\n";
    let where_it_runs = |resolve: fn(&str) -> std::path::PathBuf| CheckedPlan::read_where(text, resolve, |_| None).map(|_| ()).unwrap_err();
    let reports = where_it_runs(crate::plain_path);
    let told: Vec<_> = reports.iter().map(|r| (r.line, r.message.as_str())).collect();
    assert_eq!(told, [(3, "the destination `b` writes to this file as well"), (6, "the destination `a` writes to this file as well")]);
    // Where links are followed, more may be found.
    assert_eq!(where_it_runs(|_| "/the/same".into()).len(), 4);
    let plain = |path: &str| crate::plain_path(path).display().to_string();
    assert_eq!(["a/./b", "./a", "/../a", "../../a/..", "a/../../b"].map(plain), ["a/b", "a", "/a", "../..", "../b"]);
}

#[test]
fn a_plan_has_only_so_many_regular_expressions_and_is_refused_before_they_are_compiled() {
    let route =
        |n: usize| format!("[[route]]\nname = \"r{n}\"\nwhen = 'message matches /gate {n} (opens|shuts)/'\ndo = ['redact /token=(\\S+)/']\nto = [\"d\"]\n");
    let plan = |routes: usize| format!("[destination.d]\nkind = \"discard\"\n{}", (0..routes).map(route).collect::<String>());
    let begun = std::time::Instant::now();
    let refused = CheckedPlan::read(&plan(6_000)).unwrap_err();
    assert_eq!(refused[0].message, "the plan has 12000 regular expressions, more than 10000");
    let (refusing, begun) = (begun.elapsed(), std::time::Instant::now());
    assert!(CheckedPlan::read(&plan(50)).is_ok());
    // Not a claim about speed: with the expressions compiled, it would take a hundred times as long.
    assert!(refusing < 60 * begun.elapsed(), "{refusing:?}");
}

#[test]
fn permissions_of_files_are_octal_and_leave_the_owner_able() {
    let read = |store: &str, mode: &str| {
        CheckedPlan::read(&format!(
            "[source.s]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.d]\n{store}\nmode = \"{mode}\"\n[[route]]\nname = \"r\"\nto = [\"d\"]\n"
        ))
    };
    let file = "kind = \"file\"\npath = \"out.jsonl\"";
    for good in ["0640", "640", "600", "0604", "777"] {
        assert!(read(file, good).is_ok(), "{good}");
    }
    for bad in ["", "64", "0888", "rw-r--r--", "0440", "00640", "4640", "+640"] {
        assert!(read(file, bad).unwrap_err()[0].message.contains("no permissions"), "{bad}");
    }
    assert!(read("kind = \"archive\"\nstore = \"folder\"", "0640").is_ok());
    assert!(read("kind = \"archive\"\nstore = \"s3://vault\"", "0640").unwrap_err()[0].message.contains("a bucket has no use"));
}
