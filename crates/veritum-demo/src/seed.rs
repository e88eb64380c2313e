//! Pseudorandom numbers, the same each time.

/// A sequence of numbers from a seed (SplitMix64). For generated content, never for real keys.
#[derive(Debug, Clone)]
pub struct Seed(u64);

impl Seed {
    /// The sequence of a number and a name.
    #[must_use]
    pub fn new(seed: u64, name: &str) -> Self {
        let mixed =
            name.bytes().fold(seed ^ 0x9e37_79b9_7f4a_7c15, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3));
        Self(mixed)
    }

    /// The next number.
    pub fn number(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number below `bound`.
    pub fn below(&mut self, bound: u64) -> u64 {
        self.number() % bound.max(1)
    }

    /// One element.
    pub fn pick<'a, T: ?Sized>(&mut self, from: &[&'a T]) -> &'a T {
        let at = usize::try_from(self.below(from.len() as u64)).unwrap_or(0);
        from[at]
    }

    /// Bytes that do not compress.
    pub fn bytes(&mut self, length: usize) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(length + 8);
        while bytes.len() < length {
            bytes.extend_from_slice(&self.number().to_le_bytes());
        }
        bytes.truncate(length);
        bytes
    }

    /// Prose of about this many bytes, ending with a line break.
    pub fn prose(&mut self, length: usize) -> Vec<u8> {
        const WORDS: [&str; 32] = [
            "ferry",
            "tide",
            "harbour",
            "ticket",
            "passage",
            "quay",
            "mast",
            "chart",
            "lantern",
            "anchor",
            "deck",
            "crew",
            "pilot",
            "buoy",
            "rope",
            "signal",
            "timetable",
            "counter",
            "booking",
            "cabin",
            "gull",
            "shore",
            "window",
            "morning",
            "evening",
            "crossing",
            "island",
            "mainland",
            "weather",
            "north",
            "fare",
            "return",
        ];
        let mut text = String::new();
        let mut column = 0;
        while text.len() < length {
            let word = self.pick(&WORDS);
            column += word.len() + 1;
            text.push_str(word);
            if column > 72 {
                text.push('\n');
                column = 0;
            } else {
                text.push(' ');
            }
        }
        text.push('\n');
        text.into_bytes()
    }
}
