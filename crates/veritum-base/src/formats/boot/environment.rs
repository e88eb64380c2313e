//! The environment block of GRUB 2 (`grubenv`): a file of 1024 bytes with variables that survive a start.

/// Its size in bytes.
const SIZE: usize = 1024;
const HEADER: &[u8] = b"# GRUB Environment Block\n";

/// What is wrong with a block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EnvironmentFault {
    /// It has another size.
    Size(usize),
    /// It begins with something else.
    Header,
}

/// Reads the variables.
///
/// # Errors
/// When GRUB would not read it.
pub fn parse(bytes: &[u8]) -> Result<Vec<(String, String)>, EnvironmentFault> {
    if bytes.len() != SIZE {
        return Err(EnvironmentFault::Size(bytes.len()));
    }
    let rest = bytes.strip_prefix(HEADER).ok_or(EnvironmentFault::Header)?;
    let lines = rest.split(|byte| *byte == b'\n').filter(|line| !line.starts_with(b"#"));
    let variable = |line: &[u8]| {
        let (name, value) = std::str::from_utf8(line).ok()?.split_once('=')?;
        Some((name.to_owned(), value.to_owned()))
    };
    Ok(lines.filter_map(variable).collect())
}

/// A block with these values, each as [`parse`] reads it; `None` if they do not fit.
#[must_use]
pub fn block(values: &[(String, String)]) -> Option<Vec<u8>> {
    let mut block = HEADER.to_vec();
    for (name, value) in values {
        block.extend(format!("{name}={value}\n").bytes());
    }
    (block.len() <= SIZE).then(|| {
        block.resize(SIZE, b'#');
        block
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_block_of_the_right_size_and_beginning_is_read() {
        let mut block = [HEADER, b"saved_entry=boat\nnext_entry=\n"].concat();
        block.resize(SIZE, b'#');
        let expected = [("saved_entry", "boat"), ("next_entry", "")].map(|(n, v)| (n.to_owned(), v.to_owned()));
        assert_eq!(parse(&block).unwrap(), expected);
        assert_eq!(parse(&block[..1000]), Err(EnvironmentFault::Size(1000)));
        assert_eq!(super::block(&expected).unwrap(), block);
        assert_eq!(super::block(&[("long".to_owned(), "x".repeat(1024))]), None);
        block[0] = b'!';
        assert_eq!(parse(&block), Err(EnvironmentFault::Header));
    }
}
