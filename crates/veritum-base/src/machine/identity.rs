//! The machine's own identity: its system, its host name, its users.

use std::collections::HashMap;

use super::Machine;
use crate::model::SystemPath;

/// Further users and groups of a file are not read: no desktop has that many.
const MAX_ACCOUNTS: usize = 100_000;
/// User ids of people (Debian Policy 9.2.2).
const LOGIN_UIDS: std::ops::Range<u32> = 1000..60_000;

/// The machine's own identity.
#[derive(Debug, Clone, Default)]
pub struct Identified {
    /// `PRETTY_NAME` of os-release(5), or "unknown system".
    pub system: String,
    /// `ID` of os-release(5).
    pub id: String,
    /// `VERSION_ID` of os-release(5).
    pub version: String,
    /// The host's name from hostname(5).
    pub hostname: String,
}

impl Identified {
    pub(super) fn read(machine: &Machine) -> Self {
        let text = |path| machine.read_config(&SystemPath::literal(path)).ok().flatten().unwrap_or_default();
        let mut os_release = text("/etc/os-release");
        if os_release.is_empty() {
            os_release = text("/usr/lib/os-release");
        }
        let os_release = String::from_utf8_lossy(&os_release).into_owned();
        let value = |key: &str| {
            let line = os_release.lines().find_map(|l| l.strip_prefix(key)?.strip_prefix('='));
            line.map(|v| unquoted(v).chars().filter(|c| !c.is_control()).take(120).collect())
        };
        let hostname = String::from_utf8_lossy(&text("/etc/hostname")).into_owned();
        Self {
            system: value("PRETTY_NAME").unwrap_or_else(|| "unknown system".to_owned()),
            id: value("ID").unwrap_or_default(),
            version: value("VERSION_ID").unwrap_or_default(),
            hostname: hostname
                .lines()
                .next()
                .unwrap_or_default()
                .chars()
                .filter(|c| !c.is_control())
                .take(64)
                .collect(),
        }
    }
}

/// Removes the pair of quotes that os-release(5) allows around a value.
fn unquoted(value: &str) -> &str {
    let value = value.trim();
    let inner = |quote: char| value.strip_prefix(quote)?.strip_suffix(quote);
    inner('"').or_else(|| inner('\'')).unwrap_or(value)
}

/// One line of passwd(5).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// The name.
    pub name: String,
    /// The user id.
    pub uid: u32,
    /// The home folder as recorded.
    pub home: Option<SystemPath>,
}

impl Account {
    /// Whether it is a person's account.
    #[must_use]
    pub fn is_login(&self) -> bool {
        LOGIN_UIDS.contains(&self.uid)
    }
}

/// The machine's own users and groups; names are never looked up on the host.
#[derive(Debug, Clone, Default)]
pub struct Users {
    accounts: Vec<Account>,
    uids: HashMap<String, u32>,
    gids: HashMap<String, u32>,
    user_names: HashMap<u32, String>,
    group_names: HashMap<u32, String>,
}

impl Users {
    pub(super) fn read(machine: &Machine) -> Self {
        let text = |path| machine.read_config(&SystemPath::literal(path)).ok().flatten().unwrap_or_default();
        Self::parse(&text("/etc/passwd"), &text("/etc/group"))
    }

    /// Reads passwd(5) and group(5), skipping malformed lines.
    #[must_use]
    pub fn parse(passwd: &[u8], group: &[u8]) -> Self {
        let mut users = Self::default();
        for line in passwd.split(|b| *b == b'\n').take(MAX_ACCOUNTS) {
            let fields: Vec<&[u8]> = line.split(|b| *b == b':').collect();
            let [name, _, uid, _, _, home, ..] = fields[..] else { continue };
            let (Some(name), Some(uid)) = (name_of(name), number(uid)) else { continue };
            users.uids.entry(name.to_owned()).or_insert(uid);
            users.user_names.entry(uid).or_insert_with(|| name.to_owned());
            let home = SystemPath::parse(home).ok().filter(|h| !h.is_root());
            users.accounts.push(Account { name: name.to_owned(), uid, home });
        }
        for line in group.split(|b| *b == b'\n').take(MAX_ACCOUNTS) {
            let fields: Vec<&[u8]> = line.split(|b| *b == b':').collect();
            let [name, _, gid, ..] = fields[..] else { continue };
            let (Some(name), Some(gid)) = (name_of(name), number(gid)) else { continue };
            users.gids.entry(name.to_owned()).or_insert(gid);
            users.group_names.entry(gid).or_insert_with(|| name.to_owned());
        }
        users
    }

    /// All accounts, in file order.
    #[must_use]
    pub fn accounts(&self) -> &[Account] {
        &self.accounts
    }

    /// The id of a user.
    #[must_use]
    pub fn uid(&self, name: &str) -> Option<u32> {
        self.uids.get(name).copied()
    }

    /// The id of a group.
    #[must_use]
    pub fn gid(&self, name: &str) -> Option<u32> {
        self.gids.get(name).copied()
    }

    /// `user:group`, by name where the machine has one, else by id.
    #[must_use]
    pub fn owner_text(&self, uid: u32, gid: u32) -> String {
        let user = self.user_names.get(&uid).cloned().unwrap_or_else(|| uid.to_string());
        let group = self.group_names.get(&gid).cloned().unwrap_or_else(|| gid.to_string());
        format!("{user}:{group}")
    }

    /// Whether a user id is a person's.
    #[must_use]
    pub fn is_login(&self, uid: u32) -> bool {
        LOGIN_UIDS.contains(&uid)
    }
}

fn number(bytes: &[u8]) -> Option<u32> {
    std::str::from_utf8(bytes).ok()?.parse().ok()
}

/// A user or group name; `None` when it is empty or not text.
fn name_of(field: &[u8]) -> Option<&str> {
    std::str::from_utf8(field).ok().filter(|name| !name.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_numbers_come_from_the_machines_own_files() {
        let users = Users::parse(
            b"root:x:0:0:root:/root:/bin/sh\nmirela:x:1000:1000::/home/mirela:/bin/sh\nbroken\n:x:y:\n",
            b"root:x:0:\nadm:x:4:\n",
        );
        assert_eq!(users.uid("mirela"), Some(1000));
        assert_eq!(users.gid("adm"), Some(4));
        assert_eq!(users.owner_text(1000, 77), "mirela:77");
        assert!(users.accounts()[1].is_login() && !users.accounts()[0].is_login());
    }

    proptest::proptest! {
        #[test]
        fn in_damaged_tables_every_user_has_a_name_and_the_number_beside_it(seed: u64) {
            let passwd = crate::testkit::mutated(b"root:x:0:0:root:/root:/bin/sh\nmirela:x:1000:1000::/home/mirela:/bin/sh\n", seed);
            let users = Users::parse(&passwd, b"adm:x:4:\n");
            proptest::prop_assert_eq!(users.gid("adm"), Some(4));
            for account in users.accounts() {
                proptest::prop_assert!(!account.name.is_empty() && !account.name.contains([':', '\n']));
                proptest::prop_assert!(users.uid(&account.name).is_some());
            }
        }
    }
}
