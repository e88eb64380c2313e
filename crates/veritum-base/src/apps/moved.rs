//! Base directories that a user has moved: `XDG_CONFIG_HOME` and others in environment files (environment.d(5)).

use super::pattern::Bases;

/// Larger files and further lines are not read.
const MAX_BYTES: usize = 64 << 10;
const MAX_LINES: usize = 2000;

impl Bases {
    /// Reads the base directories from an environment file; `home` is the home as the system names it. Values outside the home or
    /// with other variables are ignored: no application data is searched for there.
    pub fn take_variables(&mut self, file: &[u8], home: &[u8]) {
        if file.len() > MAX_BYTES {
            return;
        }
        for line in file.split(|byte| *byte == b'\n').take(MAX_LINES) {
            let Some(cut) = line.iter().position(|byte| *byte == b'=') else { continue };
            let (name, value) = (&line[..cut], &line[cut + 1..]);
            let Some(below) = below_home(value, home) else { continue };
            match name {
                b"XDG_CONFIG_HOME" => self.config = below,
                b"XDG_CACHE_HOME" => self.cache = below,
                b"XDG_DATA_HOME" => self.data = below,
                b"XDG_STATE_HOME" => self.state = below,
                _ => {}
            }
        }
    }
}

/// A value as a path relative to the home.
fn below_home(value: &[u8], home: &[u8]) -> Option<Vec<u8>> {
    let value = value.strip_suffix(b"\r").unwrap_or(value);
    let value = match value {
        [b'"', inside @ .., b'"'] | [b'\'', inside @ .., b'\''] => inside,
        plain => plain,
    };
    let rest = [b"$HOME".as_slice(), b"${HOME}", home].into_iter().find_map(|start| value.strip_prefix(start))?;
    let rest = rest.strip_prefix(b"/")?;
    let names: Vec<&[u8]> = rest.split(|byte| *byte == b'/').filter(|name| !name.is_empty()).collect();
    let plain = |name: &&[u8]| ![b".".as_slice(), b".."].contains(name) && !name.iter().any(|b| b"$\0\\".contains(b));
    (!names.is_empty() && names.iter().all(plain)).then(|| names.join(&b'/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn moved(text: &str) -> Bases {
        let mut bases = Bases::default();
        bases.take_variables(text.as_bytes(), b"/home/mirela");
        bases
    }

    #[test]
    fn what_lies_in_the_home_is_taken_and_nothing_else() {
        let bases = moved(
            "# a remark\nXDG_CACHE_HOME=/home/mirela/.mycache\nXDG_CONFIG_HOME=\"${HOME}/.settings/deep/\"\nXDG_DATA_HOME=$HOME/.d\r\n",
        );
        assert_eq!((bases.cache.as_slice(), bases.config.as_slice()), (&b".mycache"[..], &b".settings/deep"[..]));
        assert_eq!((bases.data.as_slice(), bases.state.as_slice()), (&b".d"[..], &b".local/state"[..]));
        for text in [
            "XDG_CACHE_HOME=/tmp/cache",
            "XDG_CACHE_HOME=/home/mirelas/x",
            "XDG_CACHE_HOME=$HOME/../oskar/x",
            "XDG_CACHE_HOME=$HOME",
            "XDG_CACHE_HOME=$HOME/",
            "XDG_CACHE_HOME=$HOME/$USER",
            "XDG_CACHE_HOME",
            " XDG_CACHE_HOME=$HOME/x",
        ] {
            assert_eq!(moved(text), Bases::default(), "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn damaged_variables_lead_nowhere_out_of_the_home(seed: u64) {
            let mut bases = Bases::default();
            let text = crate::testkit::mutated(b"XDG_CACHE_HOME=$HOME/.mine\nXDG_CONFIG_HOME=/home/x/.conf\nXDG_DATA_HOME=\"$HOME/.d\"\n", seed);
            bases.take_variables(&text, b"/home/x");
            for base in [&bases.config, &bases.cache, &bases.data, &bases.state] {
                proptest::prop_assert!(!base.is_empty() && base[0] != b'/');
                proptest::prop_assert!(base.split(|b| *b == b'/').all(|name| !name.is_empty() && name != b"." && name != b".."));
            }
        }
    }
}
