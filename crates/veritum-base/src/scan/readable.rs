//! Whether configuration files are well-formed: JSON (RFC 8259), XML 1.0, groups and keys (INI), SQLite.

use std::io::{self, Write as _};
use std::os::fd::AsFd as _;

use crate::machine::{Dir, read_to_limit};

/// Larger texts are not examined.
const MAX_TEXT: u64 = 16 << 20;
/// Larger databases are not copied.
const MAX_DATABASE: u64 = 64 << 20;
/// The number of lines of an INI file that are examined.
const MAX_LINES: usize = 200_000;
/// The signature of a database (SQLite Database File Format, 1.3).
const DATABASE: &[u8] = b"SQLite format 3\0";

/// The format of a file, by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    Json,
    Xml,
    Keys,
    Database,
    Unknown,
}

impl Form {
    pub(super) fn for_name(name: &[u8]) -> Self {
        let ending = name.rsplit(|byte| *byte == b'.').next().unwrap_or_default().to_ascii_lowercase();
        match ending.as_slice() {
            b"json" => Self::Json,
            b"xml" | b"xcu" | b"xba" | b"xlb" | b"xhtml" | b"svg" => Self::Xml,
            b"ini" => Self::Keys,
            b"sqlite" | b"sqlite3" => Self::Database,
            _ => Self::Unknown,
        }
    }
}

/// Why a file is not well-formed; `None` if it is, or its format is unknown.
///
/// # Errors
/// When the medium or its permissions prevent reading.
pub(super) fn fault(dir: &Dir, name: &[u8], size: u64, databases: bool) -> io::Result<Option<String>> {
    let form = Form::for_name(name);
    if form == Form::Database {
        return if databases && size <= MAX_DATABASE { database_fault(dir, name, size) } else { Ok(None) };
    }
    if size > MAX_TEXT {
        return Ok(None);
    }
    let file = dir.disk().open_file(dir.fd(), name)?;
    Ok(text_fault(form, &read_to_limit(dir.disk(), file.as_fd(), MAX_TEXT)?))
}

/// Why a text is not well-formed.
pub(super) fn text_fault(form: Form, text: &[u8]) -> Option<String> {
    if !text.is_empty() && text.iter().all(|byte| *byte == 0) {
        return Some("filled with zeros, as after a power cut".into());
    }
    let empty = || text.iter().all(u8::is_ascii_whitespace).then(|| "empty file".to_owned());
    match form {
        Form::Json => empty().or_else(|| json_fault(text)),
        Form::Xml => empty().or_else(|| xml_fault(text)),
        Form::Keys => keys_fault(text),
        Form::Database | Form::Unknown => None,
    }
}

fn json_fault(text: &[u8]) -> Option<String> {
    let text = text.strip_prefix(b"\xef\xbb\xbf").unwrap_or(text);
    let error = serde_json::from_slice::<serde::de::IgnoredAny>(text).err()?;
    // Some programs accept comments in JSON: files with comments are accepted.
    let remarks = text.windows(2).any(|two| two == b"//" || two == b"/*");
    let cut = error.is_eof();
    (cut || !remarks).then(|| match cut {
        true => format!("truncated at line {}", error.line()),
        false => format!("line {} is not valid JSON", error.line()),
    })
}

fn xml_fault(text: &[u8]) -> Option<String> {
    let mut reader = quick_xml::Reader::from_reader(text);
    let (mut depth, mut elements) = (0usize, 0usize);
    loop {
        let at = |reader: &quick_xml::Reader<&[u8]>| {
            let read = usize::try_from(reader.buffer_position()).unwrap_or(0).min(text.len());
            text[..read].iter().filter(|byte| **byte == b'\n').count() + 1
        };
        match reader.read_event() {
            Ok(quick_xml::events::Event::Start(_)) => {
                depth += 1;
                elements += 1;
            }
            Ok(quick_xml::events::Event::Empty(_)) => elements += 1,
            Ok(quick_xml::events::Event::End(_)) => depth = depth.saturating_sub(1),
            Ok(quick_xml::events::Event::Eof) => {
                let cut = depth > 0 || elements == 0;
                return cut.then(|| format!("truncated at line {}", at(&reader)));
            }
            Ok(_) => {}
            Err(_) => return Some(format!("line {} is not valid XML", at(&reader))),
        }
    }
}

fn keys_fault(text: &[u8]) -> Option<String> {
    let mut number = 0;
    for line in text.split(|byte| *byte == b'\n').take(MAX_LINES) {
        number += 1;
        let line = line.trim_ascii();
        let is_line = line.is_empty()
            || matches!(line[0], b'#' | b';' | b'[' | b'"' | b'\\')
            || line.iter().any(|byte| matches!(byte, b'=' | b':'))
            // Some of these files are lists of names, in any language.
            || std::str::from_utf8(line).is_ok();
        if line.contains(&0) || !is_line {
            return Some(format!("line {number} is neither a group nor a key"));
        }
    }
    None
}

/// Examines a private copy including its log: opening the user's own database would change it.
fn database_fault(dir: &Dir, name: &[u8], size: u64) -> io::Result<Option<String>> {
    if size == 0 {
        return Ok(None);
    }
    let beside = ["/dev/shm", "/tmp"].into_iter().find_map(|place| tempfile::tempdir_in(place).ok());
    let Some(copies) = beside else { return Ok(None) };
    let mut begins = [0; DATABASE.len()];
    copied(dir, name, &copies.path().join("copy"), Some(&mut begins))?;
    if begins != DATABASE {
        return Ok(Some("not an SQLite database".into()));
    }
    let log = [name, b"-wal"].concat();
    if dir.look(&log)?.is_some_and(|stat| stat.size <= MAX_DATABASE) {
        // Without its log the database has an earlier state: that is not a fault.
        let _ = copied(dir, &log, &copies.path().join("copy-wal"), None);
    }
    let checked = || -> rusqlite::Result<String> {
        let copy = rusqlite::Connection::open(copies.path().join("copy"))?;
        copy.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))
    };
    Ok(match checked() {
        Ok(word) if word == "ok" => None,
        Ok(_) => Some("the database is inconsistent".into()),
        // A feature of a newer or other build is not a fault of the file.
        Err(rusqlite::Error::SqliteFailure(e, _))
            if matches!(e.code, rusqlite::ErrorCode::NotADatabase | rusqlite::ErrorCode::DatabaseCorrupt) =>
        {
            Some("the database cannot be read".into())
        }
        Err(_) => None,
    })
}

fn copied(dir: &Dir, name: &[u8], to: &std::path::Path, begins: Option<&mut [u8; 16]>) -> io::Result<()> {
    let file = dir.disk().open_file(dir.fd(), name)?;
    let bytes = read_to_limit(dir.disk(), file.as_fd(), MAX_DATABASE)?;
    if let (Some(begins), Some(first)) = (begins, bytes.first_chunk()) {
        *begins = *first;
    }
    std::fs::File::create_new(to)?.write_all(&bytes)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::machine::{LiveDisk, Machine};
    use crate::model::SystemPath;

    #[test]
    fn what_cannot_be_read_is_told_with_its_line_and_what_can_is_not() {
        let said = |name: &str, text: &str| text_fault(Form::for_name(name.as_bytes()), text.as_bytes());
        for (name, text) in [
            ("a.json", "{\"a\": [1, 2]}\n"),
            ("a.json", "\u{feff}{}"),
            ("a.json", "{ // a remark\n}"),
            ("a.xcu", "<?xml version=\"1.0\"?>\n<a><b c=\"d\"/></a>\n"),
            ("a.ini", "[Group]\nkey=value\n; remark\n\n  continued\n"),
            ("a.ini", ""),
            ("rc", "anything"),
            ("rc", ""),
        ] {
            assert_eq!(said(name, text), None, "{name}: {text}");
        }
        for (name, text, why) in [
            ("a.json", "{\"a\": [1,\n 2", "truncated at line 2"),
            ("a.json", "{\n\"a\" 1}", "line 2 is not valid JSON"),
            ("a.json", " \n", "empty file"),
            ("A.JSON", "\0\0\0", "filled with zeros, as after a power cut"),
            ("rc", "\0\0\0", "filled with zeros, as after a power cut"),
            ("a.xml", "<a>\n<b>\n</a>", "line 3 is not valid XML"),
            ("a.xml", "<a>\n<b></b>\n", "truncated at line 3"),
            ("a.ini", "[Group]\nkey=\0\n", "line 2 is neither a group nor a key"),
        ] {
            assert_eq!(said(name, text).as_deref(), Some(why), "{name}: {text}");
        }
    }

    #[test]
    fn a_database_is_looked_at_in_a_copy_with_its_log_and_is_not_touched() {
        let home = tempfile::tempdir().unwrap();
        let path = home.path().join("places.sqlite");
        let own = rusqlite::Connection::open(&path).unwrap();
        own.query_row("PRAGMA journal_mode=WAL", [], |_| Ok(())).unwrap();
        own.execute_batch("CREATE TABLE t(a); INSERT INTO t VALUES (zeroblob(90000));").unwrap();
        let machine = Machine::open(home.path(), Arc::new(LiveDisk)).unwrap();
        let dir = machine.dir(&SystemPath::root()).unwrap();
        let names = || {
            let mut names: Vec<_> = std::fs::read_dir(home.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
            names.sort();
            names
        };
        let before = (std::fs::read(&path).unwrap(), names());
        let said = || fault(&dir, b"places.sqlite", std::fs::metadata(&path).unwrap().len(), true).unwrap();
        assert_eq!(said(), None);
        assert_eq!((std::fs::read(&path).unwrap(), names()), before, "while it is open");
        own.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)").unwrap();
        drop(own);
        let mut bytes = std::fs::read(&path).unwrap();
        let end = bytes.len() - 5000;
        bytes[4096..end].fill(0xa5);
        std::fs::write(&path, &bytes).unwrap();
        assert!(said().is_some_and(|why| why.contains("database")));
        std::fs::write(&path, b"<html>nothing of the kind</html>").unwrap();
        assert_eq!(said().as_deref(), Some("not an SQLite database"));
        assert_eq!(fault(&dir, b"places.sqlite", 32, false).unwrap(), None, "it may be in use");
    }

    proptest::proptest! {
        #[test]
        fn what_breaks_off_is_told_and_what_is_told_is_damage(seed: u64, cut in 1usize..40) {
            let xml = b"<?xml version=\"1.0\"?>\n<a b=\"c\"><d>text</d><e/></a>";
            proptest::prop_assert_eq!(text_fault(Form::for_name(b"x.xml"), xml), None);
            proptest::prop_assert!(text_fault(Form::for_name(b"x.xml"), &xml[..xml.len() - cut.min(30)]).is_some());
            let json = crate::testkit::mutated(b"{\"quay\": [1, 2, {\"x\": null}], \"y\": \"z\"}", seed);
            if serde_json::from_slice::<serde_json::Value>(&json).is_ok() {
                proptest::prop_assert_eq!(text_fault(Form::Json, &json), None);
            }
        }

        #[test]
        fn what_was_written_as_json_can_be_read(keys in proptest::collection::vec(".{0,9}", 0..6)) {
            let text = serde_json::to_vec_pretty(&keys).unwrap();
            proptest::prop_assert_eq!(text_fault(Form::Json, &text), None);
            if text.len() > 2 {
                proptest::prop_assert!(text_fault(Form::Json, &text[..text.len() - 1]).is_some());
            }
        }
    }
}
