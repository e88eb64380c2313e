//! MessagePack, for data exchanged between processes: bytes are encoded as bytes.

use std::io;

use serde::Serialize;
use serde::de::DeserializeOwned;

/// Encodes a value; paths and names take as many bytes as they have.
///
/// # Errors
/// When it cannot be encoded as MessagePack.
pub fn packed<T: Serialize>(value: &T) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut packing =
        rmp_serde::Serializer::new(&mut bytes).with_struct_map().with_bytes(rmp_serde::config::BytesMode::ForceAll);
    value.serialize(&mut packing).map_err(io::Error::other)?;
    Ok(bytes)
}

/// Decodes a value.
///
/// # Errors
/// When the bytes do not encode such a value, or continue after it.
pub fn unpacked<T: DeserializeOwned>(bytes: &[u8]) -> io::Result<T> {
    let bad = |e: rmp_serde::decode::Error| io::Error::new(io::ErrorKind::InvalidData, e);
    let mut rest = bytes;
    let value = T::deserialize(&mut rmp_serde::Deserializer::new(&mut rest)).map_err(bad)?;
    match rest.is_empty() {
        true => Ok(value),
        false => Err(io::Error::new(io::ErrorKind::InvalidData, "unexpected data at the end")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_costs_no_more_than_its_bytes() {
        let paths: Vec<(Vec<u8>, u64)> = (0..100u64).map(|n| (vec![0xfe; 200], n)).collect();
        let bytes = packed(&paths).unwrap();
        assert!(bytes.len() < 100 * 210, "{}", bytes.len());
        assert_eq!(unpacked::<Vec<(Vec<u8>, u64)>>(&bytes).unwrap(), paths);
        assert!(unpacked::<Vec<(Vec<u8>, u64)>>(&[bytes, vec![0]].concat()).is_err());
    }

    proptest::proptest! {
        #[test]
        fn a_damaged_value_is_another_one_or_none(at in 0usize..40, byte: u8) {
            let value = vec![(b"quay".to_vec(), 7u64), (b"pier".to_vec(), u64::MAX)];
            let mut bytes = packed(&value).unwrap();
            let at = at % bytes.len();
            let changed = bytes[at] != byte;
            bytes[at] = byte;
            if let Ok(read) = unpacked::<Vec<(Vec<u8>, u64)>>(&bytes) {
                proptest::prop_assert_eq!(read != value, changed);
            }
        }
    }
}
