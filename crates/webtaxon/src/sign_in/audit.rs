//! The record of tries: one line of JSON for each, appended by any number of processes, in files that are rotated and that
//! only their owner can read. It never contains a password.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions};
use std::io::{self, BufRead as _, BufReader, Write as _};
use std::path::{Path, PathBuf};
use webtaxon_core::settings::{self, Rotation};
use webtaxon_core::words::harmless;

/// Maximum bytes of a file that is rotated each day: a flood of tries does not fill the disk.
const DAILY_MOST: u64 = 100_000_000;
/// Maximum characters of a text in a line.
const LONGEST: usize = 512;

/// One try.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct AuditLine {
    /// When it ended.
    pub at: Timestamp,
    /// The name, as it was typed.
    pub name: String,
    /// The name of the entry that was found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dn: Option<String>,
    /// Where it came from, as the application says.
    pub from: String,
    /// The directory that was asked about the password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub directory: Option<String>,
    /// `in`, `refused` or `unavailable`.
    pub outcome: String,
    /// The reason, by name.
    pub reason: String,
    /// The reason, in words.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub message: String,
    /// The login of the account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// The change to the account, by its kind.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<String>,
    /// How long it took.
    pub milliseconds: u64,
}

impl AuditLine {
    fn text(&self) -> String {
        let shown = |text: &str| harmless(&text.chars().take(LONGEST).collect::<String>());
        let line = Self {
            name: shown(&self.name),
            dn: self.dn.as_deref().map(shown),
            from: shown(&self.from),
            message: shown(&self.message),
            account: self.account.as_deref().map(shown),
            ..self.clone()
        };
        let mut text = serde_json::to_string(&line).unwrap_or_default();
        text.push('\n');
        text
    }
}

/// The file of the record.
#[derive(Clone, Debug)]
pub(crate) struct AuditFile {
    file: PathBuf,
    rotate: Rotation,
    keep: u64,
}

impl AuditFile {
    /// The file in the settings; without one, `webtaxon.signins.jsonl` in the folder.
    pub(crate) fn new(settings: &settings::Audit, folder: &Path) -> Self {
        let name = settings.file.as_deref().unwrap_or("webtaxon.signins.jsonl");
        Self { file: folder.join(name), rotate: settings.rotate, keep: settings.keep }
    }

    pub(crate) fn path(&self) -> &Path {
        &self.file
    }

    /// Appends lines. Blocks while another process does.
    ///
    /// # Errors
    /// The file cannot be written. A part of a line that was written is taken back.
    pub(crate) fn append(&self, lines: &[AuditLine]) -> io::Result<()> {
        let mut rest = lines;
        while let Some(first) = rest.first() {
            let mut file = self.open()?;
            file.lock()?;
            // Another process may have rotated it since it was opened.
            if !self.is_still_there(&file)? {
                continue;
            }
            let size = file.metadata()?.len();
            let room = self.room(size, first.at);
            let mut text = String::new();
            let mut written = 0;
            for line in rest.iter().take_while(|line| day(line.at) == day(first.at)) {
                let more = line.text();
                let is_first_of_all = size == 0 && written == 0;
                if wide(text.len() + more.len()) > room && !is_first_of_all {
                    break;
                }
                text.push_str(&more);
                written += 1;
            }
            if written == 0 {
                self.rotate()?;
                continue;
            }
            if let Err(error) = file.write_all(text.as_bytes()) {
                let _ = file.set_len(size);
                return Err(error);
            }
            rest = rest.get(written..).unwrap_or_default();
        }
        Ok(())
    }

    fn open(&self) -> io::Result<File> {
        let mut options = OpenOptions::new();
        options.append(true).create(true);
        #[cfg(unix)]
        {
            use std::os::unix::fs::OpenOptionsExt as _;
            options.mode(0o600);
        }
        options.open(&self.file)
    }

    #[cfg(unix)]
    fn is_still_there(&self, file: &File) -> io::Result<bool> {
        use std::os::unix::fs::MetadataExt as _;
        let own = file.metadata()?;
        Ok(std::fs::metadata(&self.file)
            .is_ok_and(|there| (there.dev(), there.ino()) == (own.dev(), own.ino())))
    }

    #[cfg(not(unix))]
    fn is_still_there(&self, _: &File) -> io::Result<bool> {
        Ok(true)
    }

    /// The bytes that still fit into a file of this size; none into one of another day.
    fn room(&self, size: u64, now: Timestamp) -> u64 {
        let most = match self.rotate {
            Rotation::Bytes(most) => most,
            Rotation::Daily => DAILY_MOST,
        };
        let is_of_another_day = self.rotate == Rotation::Daily
            && size > 0
            && first_line(&self.file).is_some_and(|first| day(first.at) != day(now));
        if is_of_another_day { 0 } else { most.saturating_sub(size) }
    }

    /// The file with this number: 1 is the latest full one.
    fn numbered(&self, number: u64) -> PathBuf {
        let mut name = self.file.clone().into_os_string();
        name.push(format!(".{number}"));
        name.into()
    }

    /// Begins a new file; the oldest beyond those to be kept goes.
    fn rotate(&self) -> io::Result<()> {
        let is_missing = |error: &io::Error| error.kind() == io::ErrorKind::NotFound;
        if self.keep == 0 {
            return std::fs::remove_file(&self.file);
        }
        for number in (1..self.keep).rev() {
            match std::fs::rename(self.numbered(number), self.numbered(number + 1)) {
                Err(error) if !is_missing(&error) => return Err(error),
                _ => {}
            }
        }
        std::fs::rename(&self.file, self.numbered(1))
    }

    /// Passes on every line that is there, the oldest first. Lines that are none, such as one that was cut off by a full
    /// disk, are counted.
    ///
    /// # Errors
    /// A file cannot be read.
    pub(crate) fn read(&self, mut take: impl FnMut(AuditLine)) -> io::Result<usize> {
        let mut bad = 0;
        let mut files: Vec<PathBuf> =
            (1..=self.keep).rev().map(|number| self.numbered(number)).filter(|file| file.exists()).collect();
        files.extend(self.file.exists().then(|| self.file.clone()));
        for file in files {
            for line in BufReader::new(File::open(file)?).split(b'\n') {
                match serde_json::from_slice(&line?) {
                    Ok(line) => take(line),
                    Err(_) => bad += 1,
                }
            }
        }
        Ok(bad)
    }
}

fn day(at: Timestamp) -> jiff::civil::Date {
    at.to_zoned(jiff::tz::TimeZone::UTC).date()
}

fn wide(length: usize) -> u64 {
    u64::try_from(length).unwrap_or(u64::MAX)
}

fn first_line(file: &Path) -> Option<AuditLine> {
    let line = BufReader::new(File::open(file).ok()?).split(b'\n').next()?.ok()?;
    serde_json::from_slice(&line).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(name: &str, at: &str) -> AuditLine {
        AuditLine {
            at: at.parse().unwrap(),
            name: name.to_owned(),
            dn: None,
            from: "10.0.0.1".to_owned(),
            directory: None,
            outcome: "refused".to_owned(),
            reason: "unknown_name".to_owned(),
            message: String::new(),
            account: None,
            change: None,
            milliseconds: 3,
        }
    }

    fn names(audit: &AuditFile) -> Vec<String> {
        let mut names = Vec::new();
        assert_eq!(audit.read(|line| names.push(line.name)).unwrap(), 0);
        names
    }

    const NOON: &str = "2026-12-01T12:00:00Z";

    #[test]
    fn several_writers_lose_no_line_and_files_are_rotated_between_lines() {
        let folder = tempfile::tempdir().unwrap();
        let settings = settings::Audit { file: None, rotate: Rotation::Bytes(2_000), keep: 50 };
        let audit = AuditFile::new(&settings, folder.path());
        std::thread::scope(|scope| {
            for writer in 0..4 {
                let audit = audit.clone();
                scope.spawn(move || {
                    for number in 0..50 {
                        audit.append(&[line(&format!("{writer}-{number}"), NOON)]).unwrap();
                    }
                });
            }
        });
        let mut all = names(&audit);
        all.sort();
        all.dedup();
        assert_eq!(all.len(), 200);
        for file in std::fs::read_dir(folder.path()).unwrap() {
            let about = file.unwrap().metadata().unwrap();
            assert!(about.len() <= 2_000);
            #[cfg(unix)]
            assert_eq!(std::os::unix::fs::PermissionsExt::mode(&about.permissions()) & 0o777, 0o600);
        }
    }

    #[test]
    fn a_flood_leaves_no_more_than_the_files_to_be_kept() {
        let folder = tempfile::tempdir().unwrap();
        let settings = settings::Audit { file: None, rotate: Rotation::Bytes(1_000), keep: 2 };
        let audit = AuditFile::new(&settings, folder.path());
        for number in 0..500 {
            audit.append(&[line(&number.to_string(), NOON)]).unwrap();
        }
        let sizes =
            std::fs::read_dir(folder.path()).unwrap().map(|file| file.unwrap().metadata().unwrap().len());
        let sizes: Vec<u64> = sizes.collect();
        assert_eq!(sizes.len(), 3);
        assert!(sizes.iter().sum::<u64>() <= 3_000);
        assert_eq!(names(&audit).last().map(String::as_str), Some("499"));
    }

    #[test]
    fn each_day_has_a_file() {
        let folder = tempfile::tempdir().unwrap();
        let settings = settings::Audit { file: Some("a.jsonl".to_owned()), rotate: Rotation::Daily, keep: 9 };
        let audit = AuditFile::new(&settings, folder.path());
        for (name, at) in
            [("a", "2026-12-01T23:59:59Z"), ("b", "2026-12-02T00:00:00Z"), ("c", "2026-12-02T01:00:00Z")]
        {
            audit.append(&[line(name, at)]).unwrap();
        }
        assert_eq!(names(&audit), ["a", "b", "c"]);
        assert_eq!(std::fs::read_to_string(audit.path()).unwrap().lines().count(), 2);
    }

    #[test]
    fn lines_written_together_make_the_same_files_as_one_by_one() {
        for rotate in [Rotation::Daily, Rotation::Bytes(1_000)] {
            let files = |batch: usize| {
                let folder = tempfile::tempdir().unwrap();
                let audit = AuditFile::new(&settings::Audit { file: None, rotate, keep: 99 }, folder.path());
                let day = |number: usize| format!("2026-12-{:02}T12:00:00Z", 1 + number / 25);
                let lines: Vec<AuditLine> =
                    (0..80).map(|number| line(&number.to_string(), &day(number))).collect();
                for batch in lines.chunks(batch) {
                    audit.append(batch).unwrap();
                }
                let read = |number| std::fs::read_to_string(audit.numbered(number)).ok();
                (std::fs::read_to_string(audit.path()).unwrap(), (1..99).map_while(read).collect::<Vec<_>>())
            };
            let expected = files(1);
            assert!(expected.1.len() > 2);
            for batch in [2, 7, 80] {
                assert!(files(batch) == expected, "{rotate:?}, {batch}");
            }
        }
    }

    #[test]
    fn what_was_typed_cannot_forge_a_line() {
        let folder = tempfile::tempdir().unwrap();
        let audit = AuditFile::new(&settings::Audit::default(), folder.path());
        let typed = "x\"}\n{\"at\":\"2026\u{9b}\u{202e}";
        audit.append(&[line(typed, NOON)]).unwrap();
        let text = std::fs::read_to_string(audit.path()).unwrap();
        assert_eq!(text.lines().count(), 1);
        assert!(!text.contains(['\u{9b}', '\u{202e}']));
        assert_eq!(names(&audit), [harmless(typed)]);
    }
}
