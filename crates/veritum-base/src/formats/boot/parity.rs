//! The parity behind a core image of GRUB 2 on BIOS machines: Reed-Solomon codes over the field of 256 elements (x⁸+x⁴+x³+x²+1), one for
//! each position in a sector, so that a whole damaged sector is one wrong byte in each code. At the start GRUB corrects what it can.

/// The codes are spread over the bytes of a sector.
const SECTOR: usize = 512;
/// Data and parity of one block together have at most so many bytes.
const MAX_BLOCK: usize = 200 * SECTOR;

/// Powers and logarithms in the field.
struct Field {
    powers: [u8; 510],
    logarithms: [usize; 256],
}

impl Field {
    fn new() -> Self {
        let (mut powers, mut logarithms) = ([0; 510], [0; 256]);
        let mut value: u16 = 1;
        for exponent in 0..255 {
            powers[exponent] = value as u8;
            powers[exponent + 255] = value as u8;
            logarithms[usize::from(value)] = exponent;
            value <<= 1;
            if value > 255 {
                value ^= 0x11d;
            }
        }
        Self { powers, logarithms }
    }

    fn times(&self, one: u8, other: u8) -> u8 {
        if one == 0 || other == 0 {
            return 0;
        }
        self.powers[self.logarithms[usize::from(one)] + self.logarithms[usize::from(other)]]
    }

    /// The product of (x − αⁱ) for i below `count`, without its first coefficient, the highest power first.
    fn generator(&self, count: usize) -> Vec<u8> {
        let mut product = vec![1u8];
        for exponent in 0..count {
            product.push(0);
            for at in (1..product.len()).rev() {
                product[at] ^= self.times(product[at - 1], self.powers[exponent % 255]);
            }
        }
        product.remove(0);
        product
    }

    /// The remainder of the data, shifted by the number of parity bytes.
    fn encode(&self, data: &[u8], generator: &[u8]) -> Vec<u8> {
        let mut remainder = vec![0u8; generator.len()];
        for byte in data {
            let factor = byte ^ remainder[0];
            remainder.rotate_left(1);
            if let Some(last) = remainder.last_mut() {
                *last = 0;
            }
            if factor != 0 {
                for (at, coefficient) in generator.iter().enumerate() {
                    remainder[at] ^= self.times(*coefficient, factor);
                }
            }
        }
        remainder
    }
}

/// A block of data with its parity.
struct Block {
    data: std::ops::Range<usize>,
    parity: std::ops::Range<usize>,
}

/// How data of one size and parity of another are divided.
fn blocks(data: usize, parity: usize) -> Vec<Block> {
    let (mut left, mut parity_left) = (data, parity);
    let mut blocks = Vec::new();
    while left > 0 {
        let all = left + parity_left;
        let (count, own) = match all > MAX_BLOCK {
            true => (left * (MAX_BLOCK / SECTOR) / all * SECTOR, parity_left * (MAX_BLOCK / SECTOR) / all * SECTOR),
            false => (left, parity_left),
        };
        if count == 0 {
            break;
        }
        let (at, parity_at) = (data - left, parity - parity_left);
        blocks.push(Block { data: at..at + count, parity: parity_at..parity_at + own });
        left -= count;
        parity_left -= own;
    }
    blocks
}

/// The bytes of one code: every sector's byte at a position.
fn column(bytes: &[u8], position: usize) -> impl Iterator<Item = &u8> {
    bytes.iter().skip(position).step_by(SECTOR)
}

/// The parity of so many bytes for these data.
#[must_use]
pub fn parity_of(data: &[u8], size: usize) -> Vec<u8> {
    let mut parity = vec![0; size];
    let field = Field::new();
    for block in blocks(data.len(), size) {
        let own = &mut parity[block.parity];
        for position in 0..SECTOR {
            let (bytes, count) = (
                column(&data[block.data.clone()], position).copied().collect::<Vec<_>>(),
                column(own, position).count(),
            );
            if bytes.is_empty() || count == 0 {
                continue;
            }
            let encoded = field.encode(&bytes, &field.generator(count));
            for (at, byte) in encoded.into_iter().enumerate() {
                own[at * SECTOR + position] = byte;
            }
        }
    }
    parity
}

/// Whether all wrong bytes can be corrected: in each code at most half as many as it has parity bytes. The pairs are the bytes found and
/// the right ones.
#[must_use]
pub fn is_correctable(data: (&[u8], &[u8]), parity: (&[u8], &[u8])) -> bool {
    if data.0.len() != data.1.len() || parity.0.len() != parity.1.len() {
        return false;
    }
    blocks(data.0.len(), parity.0.len()).into_iter().all(|block| {
        let wrong = |(found, right): (&[u8], &[u8]), range: &std::ops::Range<usize>, position: usize| {
            let pairs = column(&found[range.clone()], position).zip(column(&right[range.clone()], position));
            pairs.filter(|(found, right)| found != right).count()
        };
        (0..SECTOR).all(|position| {
            let count = column(&parity.0[block.parity.clone()], position).count();
            wrong(data, &block.data, position) + wrong(parity, &block.parity, position) <= count / 2
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_with_its_parity_has_the_roots_of_its_generator() {
        let field = Field::new();
        let data: Vec<u8> = (0..50).map(|at| at * 5 + 1).collect();
        let code = [&data[..], &field.encode(&data, &field.generator(20))].concat();
        for exponent in 0..20 {
            let value = code.iter().fold(0u8, |sum, byte| field.times(sum, field.powers[exponent]) ^ byte);
            assert_eq!(value, 0, "root {exponent}");
        }
    }

    #[test]
    fn parity_covers_every_block_and_half_of_it_can_be_corrected() {
        let data: Vec<u8> = (0..70_000u32).map(|at| (at * 7 % 253) as u8).collect();
        let parity = parity_of(&data, 60_000);
        assert!(parity.iter().filter(|byte| **byte != 0).count() > 55_000);
        let mut found = data.clone();
        found[1000..1512].fill(0xee);
        assert!(is_correctable((&found, &data), (&parity, &parity)));
        found[..60_000].fill(0xee);
        assert!(!is_correctable((&found, &data), (&parity, &parity)));
        assert!(!is_correctable((&found, &data), (&parity[1..], &parity)));
        assert!(parity_of(&[], 10).iter().all(|byte| *byte == 0) && parity_of(&[1], 0).is_empty());
    }
}
