//! Files put aside: named after the time, compressed, and the oldest removed.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use rockrose_plan::{Compression, FileDestination, Period};

/// Gives the file another name if it has grown large or its period is over. Says whether it did.
pub(crate) fn put_aside(settings: &FileDestination, reached: Option<u64>, now_ms: i64) -> std::io::Result<bool> {
    let path = Path::new(&settings.path);
    let about = match std::fs::metadata(path) {
        Ok(about) if about.is_file() && about.len() > 0 => about,
        Ok(_) => return Ok(false),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(false),
        Err(e) => return Err(e),
    };
    let large = settings.rotate_at.is_some_and(|most| about.len() >= most);
    let over = settings.rotate_every.is_some_and(|period| {
        let begun = about.created().or_else(|_| about.modified()).ok().and_then(|t| t.duration_since(SystemTime::UNIX_EPOCH).ok());
        begun.is_some_and(|begun| stretch(period, begun.as_millis() as i64) < stretch(period, now_ms))
    });
    if !large && !over {
        return Ok(false);
    }
    if let Some(reached) = reached.filter(|reached| *reached < about.len()) {
        // What stands behind was never settled, and will be written to the new file.
        let file = File::options().write(true).open(path)?;
        file.set_len(reached)?;
        file.sync_all()?;
    }
    let aside = name(path, now_ms)?;
    std::fs::rename(path, &aside)?;
    if let Some(folder) = path.parent().filter(|f| !f.as_os_str().is_empty()) {
        File::open(folder)?.sync_all()?;
    }
    // What follows can fail without harm: the events are there, under their own name.
    if let Err(e) = pack(&aside, settings.compression).and_then(|()| remove_oldest(settings)) {
        tracing::warn!(file = %aside.display(), error = %e, "a rotated file could not be compressed, or an old one not removed");
    }
    Ok(true)
}

fn stretch(period: Period, ms: i64) -> i64 {
    ms.div_euclid(match period {
        Period::Hour => 3_600_000,
        Period::Day => 86_400_000,
    })
}

/// `out-20261123T100000Z.jsonl`; with a number behind the time if there is one of that name.
fn name(path: &Path, now_ms: i64) -> std::io::Result<PathBuf> {
    let time = jiff::Timestamp::from_millisecond(now_ms).map_err(std::io::Error::other)?.strftime("%Y%m%dT%H%M%SZ").to_string();
    let (stem, extension) = parts(path);
    for n in 1..10_000 {
        let number = if n == 1 { String::new() } else { format!("-{n}") };
        let aside = path.with_file_name(format!("{stem}-{time}{number}{extension}"));
        let packed = [".gz", ".zst"].iter().any(|end| PathBuf::from(format!("{}{end}", aside.display())).exists());
        if !aside.exists() && !packed {
            return Ok(aside);
        }
    }
    Err(std::io::Error::other("no name is left for the rotated file"))
}

/// The file's name before its extension, and that with its dot.
fn parts(path: &Path) -> (String, String) {
    let stem = path.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
    (stem, path.extension().map(|e| format!(".{}", e.to_string_lossy())).unwrap_or_default())
}

/// Compresses a file that was put aside. The plain one is removed once the other is on the disk.
fn pack(aside: &Path, compression: Compression) -> std::io::Result<()> {
    let end = match compression {
        Compression::Plain => return Ok(()),
        Compression::Gzip => "gz",
        Compression::Zstd => "zst",
    };
    let part = PathBuf::from(format!("{}.{end}.part", aside.display()));
    let (mut from, to) = (File::open(aside)?, File::create(&part)?);
    to.set_permissions(from.metadata()?.permissions())?;
    let mut to = match compression {
        Compression::Zstd => {
            let mut encoder = zstd::stream::Encoder::new(to, 3)?;
            std::io::copy(&mut from, &mut encoder)?;
            encoder.finish()?
        }
        _ => {
            let mut encoder = flate2::write::GzEncoder::new(to, flate2::Compression::default());
            std::io::copy(&mut from, &mut encoder)?;
            encoder.finish()?
        }
    };
    to.flush()?;
    to.sync_all()?;
    std::fs::rename(&part, part.with_extension(""))?;
    std::fs::remove_file(aside)
}

/// Finishes what a crash broke off while files that were put aside were compressed: half a file is removed and made anew, and of two with the same content the plain one goes.
pub(crate) fn finish(settings: &FileDestination) -> std::io::Result<()> {
    for (path, rest) in aside_of(settings)? {
        let (plain, end) = (path.with_file_name(rest.plain), rest.end.as_str());
        if let Some(packed) = end.strip_suffix(".part") {
            std::fs::remove_file(&path)?;
            let compression = if packed == ".zst" { Compression::Zstd } else { Compression::Gzip };
            if plain.exists() {
                pack(&plain, compression)?;
            }
        } else if !end.is_empty() && plain.exists() {
            // It had its name only once it was whole and on the disk.
            std::fs::remove_file(&plain)?;
        }
    }
    Ok(())
}

/// The name of a file that was put aside, before it was compressed, and what was put behind that since.
struct AsideName {
    plain: String,
    end: String,
}

/// The files that were put aside by us: their names have a time, and perhaps a number.
fn aside_of(settings: &FileDestination) -> std::io::Result<Vec<(PathBuf, AsideName)>> {
    let path = Path::new(&settings.path);
    let (stem, extension) = parts(path);
    let folder = path.parent().filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut aside = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        let end = [".gz", ".zst", ".gz.part", ".zst.part"].into_iter().find(|end| name.ends_with(end)).unwrap_or_default();
        let plain = &name[..name.len() - end.len()];
        let rest = plain.strip_prefix(&format!("{stem}-")).and_then(|rest| rest.strip_suffix(&extension));
        let ours = rest
            .is_some_and(|rest| rest.len() >= 16 && rest.as_bytes()[8] == b'T' && rest.as_bytes()[15] == b'Z' && rest[..8].bytes().all(|b| b.is_ascii_digit()));
        if ours {
            aside.push((entry.path(), AsideName { plain: plain.to_owned(), end: end.to_owned() }));
        }
    }
    Ok(aside)
}

/// Removes the oldest of more files than are to be kept.
fn remove_oldest(settings: &FileDestination) -> std::io::Result<()> {
    let Some(keep) = settings.keep_files else { return Ok(()) };
    let mut aside: Vec<(SystemTime, PathBuf)> = Vec::new();
    for (path, name) in aside_of(settings)? {
        if !name.end.ends_with(".part") {
            aside.push((std::fs::metadata(&path)?.modified()?, path));
        }
    }
    aside.sort();
    for (_, path) in aside.iter().take(aside.len().saturating_sub(usize::try_from(keep).unwrap_or(usize::MAX))) {
        std::fs::remove_file(path)?;
    }
    Ok(())
}
