//! Files in other layouts, and put aside: by size and by time, compressed, the oldest removed, and exact over crashes.

use std::io::Read;

use rockrose_plan::Period;

use super::*;
use crate::kinds::rotation::put_aside;

fn file(p: &Place, set: impl FnOnce(&mut FileDestination)) -> FileDestination {
    let mut settings = plain_file(&p.out);
    set(&mut settings);
    settings
}

/// Delivers events one parcel after the other.
async fn deliver(p: &Place, settings: &FileDestination, range: std::ops::Range<u32>, step: usize) {
    let w = worker(p, settings.clone());
    for start in range.clone().step_by(step) {
        queue(&p.spool, "d", &numbered(start..(start + step as u32).min(range.end))).await;
        until("it is drained", || drained(&p.spool, "d")).await;
    }
    w.stop(Duration::from_secs(5)).await;
}

/// The files beside the open one, oldest first, and what is in them.
fn aside(p: &Place) -> Vec<(String, String)> {
    let mut found: Vec<_> = std::fs::read_dir(p.out.parent().unwrap())
        .unwrap()
        .map(|e| e.unwrap())
        .filter(|e| e.path() != p.out)
        .map(|e| (e.metadata().unwrap().modified().unwrap(), e.path()))
        .collect();
    found.sort();
    let read = |path: &Path| {
        let bytes = std::fs::read(path).unwrap();
        let mut text = String::new();
        match path.extension().and_then(|e| e.to_str()) {
            Some("gz") => flate2::read::GzDecoder::new(&bytes[..]).read_to_string(&mut text).map(|_| ()).unwrap(),
            Some("zst") => text = String::from_utf8(zstd::stream::decode_all(&bytes[..]).unwrap()).unwrap(),
            _ => text = String::from_utf8(bytes).unwrap(),
        }
        text
    };
    found.into_iter().map(|(_, path)| (path.file_name().unwrap().to_str().unwrap().to_owned(), read(&path))).collect()
}

/// All events, out of the files put aside and the open one.
fn all(p: &Place) -> Vec<String> {
    let aside = aside(p).into_iter().flat_map(|(_, text)| text.lines().map(str::to_owned).collect::<Vec<_>>());
    aside.chain(lines_of(&p.out)).collect()
}

#[tokio::test]
async fn files_have_the_permissions_that_the_plan_says_and_keep_them_when_they_are_put_aside() {
    use std::os::unix::fs::PermissionsExt;
    let p = place();
    let settings = file(&p, |f| (f.mode, f.rotate_at, f.compression) = (Some(0o604), Some(40), Compression::Zstd));
    deliver(&p, &settings, 0..20, 4).await;
    let modes: Vec<(PathBuf, u32)> = std::fs::read_dir(p.out.parent().unwrap())
        .unwrap()
        .map(|e| e.unwrap())
        .map(|e| (e.path(), e.metadata().unwrap().permissions().mode() & 0o777))
        .collect();
    assert!(modes.iter().any(|(path, _)| path.extension().is_some_and(|e| e == "zst")), "{modes:?}");
    assert!(modes.iter().all(|(_, mode)| *mode == 0o604), "{modes:?}");
    // A file that is there already is given them as well.
    deliver(&p, &FileDestination { mode: Some(0o640), rotate_at: None, ..settings }, 20..21, 1).await;
    assert_eq!(std::fs::metadata(&p.out).unwrap().permissions().mode() & 0o777, 0o640);
}

#[tokio::test]
async fn events_are_written_by_a_template_or_as_rows() {
    let p = place();
    deliver(&p, &file(&p, |f| f.layout = Layout::Text("n is {n}, of {missing}".into())), 0..3, 2).await;
    assert_eq!(lines_of(&p.out), ["n is 0, of -", "n is 1, of -", "n is 2, of -"]);
    let p = place();
    let csv = file(&p, |f| f.layout = Layout::Csv { columns: vec!["n".into(), "other".into()], formulas: false });
    deliver(&p, &csv, 0..2, 1).await;
    deliver(&p, &csv, 2..3, 1).await;
    assert_eq!(lines_of(&p.out), ["n,other", "0,", "1,", "2,"], "the head stands once");
}

#[tokio::test]
async fn a_file_that_has_grown_is_put_aside_and_compressed() {
    for (compression, end) in [(Compression::Plain, ".jsonl"), (Compression::Gzip, ".jsonl.gz"), (Compression::Zstd, ".jsonl.zst")] {
        let p = place();
        deliver(&p, &file(&p, |f| (f.rotate_at, f.compression) = (Some(80), compression)), 0..50, 5).await;
        let aside = aside(&p);
        assert!(aside.len() >= 4, "{aside:?}");
        assert!(aside.iter().all(|(name, _)| name.starts_with("out-20") && name.ends_with(end)), "{aside:?}");
        assert_eq!(all(&p), numbered(0..50));
    }
}

#[tokio::test]
async fn each_file_of_rows_has_its_head() {
    let p = place();
    deliver(&p, &file(&p, |f| (f.rotate_at, f.layout) = (Some(10), Layout::Csv { columns: vec!["n".into()], formulas: false })), 0..14, 2).await;
    let aside = aside(&p);
    assert!(aside.len() >= 2 && aside.iter().all(|(_, text)| text.starts_with("n\n")), "{aside:?}");
    assert!(lines_of(&p.out)[0] == "n");
}

#[tokio::test]
async fn only_so_many_are_kept_and_nobody_elses_are_touched() {
    let p = place();
    std::fs::create_dir_all(p.out.parent().unwrap()).unwrap();
    let other = p.out.with_file_name("out-of-order.jsonl");
    std::fs::write(&other, "mine").unwrap();
    deliver(&p, &file(&p, |f| (f.rotate_at, f.keep_files) = (Some(20), Some(2))), 0..40, 4).await;
    assert_eq!(std::fs::read_to_string(&other).unwrap(), "mine");
    assert_eq!(aside(&p).len(), 3, "two, and the other's");
    let kept: Vec<String> = all(&p).into_iter().filter(|l| l != "mine").collect();
    assert_eq!(kept.last().unwrap(), "{\"n\":39}");
    assert!(kept.len() < 20);
}

#[tokio::test]
async fn an_hour_or_a_day_that_is_over_begins_a_new_file() {
    let p = place();
    std::fs::create_dir_all(p.out.parent().unwrap()).unwrap();
    let settings = file(&p, |f| f.rotate_every = Some(Period::Hour));
    let hour = |ms: i64| ms.div_euclid(3_600_000) * 3_600_000;
    assert!(!put_aside(&settings, None, now_ms()).unwrap(), "there is none");
    std::fs::write(&p.out, "a\n").unwrap();
    let begun = hour(now_ms());
    assert!(!put_aside(&settings, Some(2), begun + 3_599_999).unwrap());
    assert!(put_aside(&settings, Some(2), begun + 3_600_000).unwrap());
    assert!(!p.out.exists());
    // What was written and never settled stays out of the file that was put aside: it will be written again.
    std::fs::write(&p.out, "b\nnever settled\n").unwrap();
    assert!(put_aside(&file(&p, |f| f.rotate_every = Some(Period::Day)), Some(2), begun + 2 * 86_400_000).unwrap());
    assert_eq!(aside(&p).into_iter().map(|(_, text)| text).collect::<Vec<_>>(), ["a\n", "b\n"]);
}

#[tokio::test]
async fn a_crash_while_a_file_is_compressed_leaves_nothing_behind() {
    let p = place();
    let at = |name: &str| p.out.with_file_name(name);
    std::fs::create_dir_all(p.out.parent().unwrap()).unwrap();
    // It died within the one, and between two steps of the other; the last is somebody else's.
    std::fs::write(at("out-20261123T100000Z.jsonl"), "a\n").unwrap();
    std::fs::write(at("out-20261123T100000Z.jsonl.gz.part"), [0x1f, 0x8b, 8]).unwrap();
    std::fs::write(at("out-20261123T110000Z.jsonl"), "b\n").unwrap();
    std::fs::write(at("out-20261123T110000Z.jsonl.zst"), zstd::bulk::compress(b"b\n", 1).unwrap()).unwrap();
    std::fs::write(at("out-of-order.jsonl.gz.part"), "mine").unwrap();
    deliver(&p, &file(&p, |f| f.compression = rockrose_plan::Compression::Gzip), 0..2, 2).await;
    let names = || {
        let mut names: Vec<String> =
            std::fs::read_dir(p.out.parent().unwrap()).unwrap().map(|e| e.unwrap().file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        names
    };
    let expected = ["out-20261123T100000Z.jsonl.gz", "out-20261123T110000Z.jsonl.zst", "out-of-order.jsonl.gz.part", "out.jsonl"];
    until("it is finished", || names() == expected).await;
    let mut text = String::new();
    std::io::Read::read_to_string(&mut flate2::read::GzDecoder::new(std::fs::File::open(at(expected[0])).unwrap()), &mut text).unwrap();
    assert_eq!(text, "a\n");
}

#[tokio::test]
async fn a_crash_around_putting_aside_repeats_nothing() {
    let p = place();
    let settings = file(&p, |f| f.rotate_at = Some(1_000_000));
    deliver(&p, &settings, 0..5, 5).await;
    // It got its other name, and then the process died: the spool still knows the old length.
    std::fs::rename(&p.out, p.out.with_file_name("out-20261123T100000Z.jsonl")).unwrap();
    queue(&p.spool, "d", &numbered(5..8)).await;
    let w = worker(&p, settings.clone());
    until("it is drained", || drained(&p.spool, "d")).await;
    w.stop(Duration::from_secs(5)).await;
    assert_eq!(p.spool.reached("d", p.out.to_str().unwrap()).await.unwrap(), Some(24));
    // And again, with something written that was never settled.
    std::fs::write(p.out.with_file_name("out-20261123T110000Z.jsonl"), std::fs::read(&p.out).unwrap()).unwrap();
    std::fs::remove_file(&p.out).unwrap();
    let w = worker(&p, settings.clone());
    queue(&p.spool, "d", &numbered(8..9)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    w.stop(Duration::from_secs(5)).await;
    std::io::Write::write_all(&mut std::fs::OpenOptions::new().append(true).open(&p.out).unwrap(), b"{\"n\":9}\n{\"n\":").unwrap();
    deliver(&p, &settings, 9..11, 2).await;
    assert_eq!(all(&p), numbered(0..11));
}

#[tokio::test]
async fn the_spool_knows_a_file_before_anything_is_appended_to_it() {
    // Appended, but never settled: a crash came between, right at the first time. What stood there before stays.
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("x.jsonl");
    std::fs::write(&path, "older, without an end").unwrap();
    let settings = plain_file(&path);
    let mut outlet = crate::kinds::FileOutlet::new(settings.clone(), None);
    let reached = outlet.begin().await.unwrap();
    assert_eq!(reached, Some(22));
    outlet.append(bytes::Bytes::from_static(b"{\"n\":1}\n")).await.unwrap();
    drop(outlet);
    let mut again = crate::kinds::FileOutlet::new(settings, reached);
    assert_eq!(again.begin().await.unwrap(), None);
    again.append(bytes::Bytes::from_static(b"{\"n\":1}\n")).await.unwrap();
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "older, without an end\n{\"n\":1}\n");
}

#[tokio::test]
async fn what_somebody_else_writes_to_a_file_is_kept_and_told() {
    let p = place();
    let settings: Target = plain_file(&p.out).into();
    let w = worker(&p, settings.clone());
    let append = |text: &str| std::io::Write::write_all(&mut std::fs::OpenOptions::new().append(true).open(&p.out).unwrap(), text.as_bytes()).unwrap();
    queue(&p.spool, "d", &numbered(0..3)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    append("another's line\nand one without an end");
    queue(&p.spool, "d", &numbered(3..5)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    let expected = |others: &[&str]| -> Vec<String> { [numbered(0..3), others.iter().map(|s| (*s).to_owned()).collect(), numbered(3..5)].concat() };
    assert_eq!(lines_of(&p.out), expected(&["another's line", "and one without an end"]));
    until("it is told", || w.health().get().noticed.is_some_and(|e| e.contains("another process has written 37 bytes"))).await;
    assert_eq!(w.health().get().state, State::Healthy);
    w.stop(Duration::from_secs(5)).await;
    // Also while nothing runs.
    append("at night\n");
    queue(&p.spool, "d", &numbered(5..6)).await;
    let w = worker(&p, settings);
    until("it is drained", || drained(&p.spool, "d")).await;
    let all = lines_of(&p.out);
    assert_eq!(all[all.len() - 2..], ["at night".to_owned(), "{\"n\":5}".to_owned()]);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_file_belongs_to_one_destination_and_to_one_process() {
    let p = place();
    let w = worker(&p, plain_file(&p.out));
    queue(&p.spool, "d", &numbered(0..3)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    // By another name.
    let link = p.out.with_file_name("link.jsonl");
    std::os::unix::fs::symlink(&p.out, &link).unwrap();
    let other = Worker::start(WorkerSettings::new("e", plain_file(&link)), p.spool.clone(), false);
    queue(&p.spool, "e", &numbered(3..6)).await;
    until("it waits, with the reason", || other.health().get().last_error.is_some_and(|e| e.contains("writes to this file"))).await;
    assert_eq!(lines_of(&p.out), numbered(0..3));
    w.stop(Duration::from_secs(5)).await;
    until("it is let go with whoever had it", || drained(&p.spool, "e")).await;
    assert_eq!(lines_of(&p.out), numbered(0..6));
    other.stop(Duration::from_secs(5)).await;
}

#[test]
fn a_path_leads_to_one_file_by_whatever_name() {
    let folder = tempfile::tempdir().unwrap();
    let real = folder.path().canonicalize().unwrap();
    std::fs::create_dir(real.join("logs")).unwrap();
    std::os::unix::fs::symlink(real.join("logs"), real.join("link")).unwrap();
    std::fs::write(real.join("logs/a.jsonl"), "").unwrap();
    std::os::unix::fs::symlink("a.jsonl", real.join("logs/b.jsonl")).unwrap();
    let at = |path: &str| crate::real_path(real.join(path).to_str().unwrap());
    for path in ["logs/a.jsonl", "link/a.jsonl", "link/../link/./b.jsonl"] {
        assert_eq!(at(path), real.join("logs/a.jsonl"), "{path}");
    }
    assert_eq!(at("link/new/c.jsonl"), real.join("logs/new/c.jsonl"), "where there is nothing yet");
}
