//! Compares versions (deb-version(7)).

use std::cmp::Ordering;

/// Compares two versions as dpkg does.
#[must_use]
pub fn compare_versions(a: &str, b: &str) -> Ordering {
    let ((epoch_a, rest_a), (epoch_b, rest_b)) = (epoch(a), epoch(b));
    let ((up_a, rev_a), (up_b, rev_b)) = (revision(rest_a), revision(rest_b));
    number(epoch_a).cmp(&number(epoch_b)).then_with(|| part(up_a, up_b)).then_with(|| part(rev_a, rev_b))
}

fn epoch(version: &str) -> (&str, &str) {
    version.split_once(':').unwrap_or(("", version))
}

fn revision(version: &str) -> (&str, &str) {
    version.rsplit_once('-').unwrap_or((version, ""))
}

/// Digits without leading zeros: the longer number is greater, else the first different digit decides.
fn number(digits: &str) -> (usize, &str) {
    let digits = digits.trim_start_matches('0');
    (digits.len(), digits)
}

/// `~` sorts before the end, the end before letters, letters before everything else.
fn order(byte: Option<&u8>) -> i32 {
    match byte {
        Some(b'~') => -1,
        None => 0,
        Some(b) if b.is_ascii_digit() => 0,
        Some(b) if b.is_ascii_alphabetic() => i32::from(*b),
        Some(b) => i32::from(*b) + 256,
    }
}

fn part(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (a.as_bytes(), b.as_bytes());
    while !(a.is_empty() && b.is_empty()) {
        while a.first().is_some_and(|c| !c.is_ascii_digit()) || b.first().is_some_and(|c| !c.is_ascii_digit()) {
            let by_sign = order(a.first()).cmp(&order(b.first()));
            if by_sign != Ordering::Equal {
                return by_sign;
            }
            (a, b) = (a.get(1..).unwrap_or_default(), b.get(1..).unwrap_or_default());
        }
        let digits = |bytes: &[u8]| bytes.iter().take_while(|c| c.is_ascii_digit()).count();
        let ((digits_a, rest_a), (digits_b, rest_b)) = (a.split_at(digits(a)), b.split_at(digits(b)));
        let text = |digits| std::str::from_utf8(digits).unwrap_or_default();
        let by_number = number(text(digits_a)).cmp(&number(text(digits_b)));
        if by_number != Ordering::Equal {
            return by_number;
        }
        (a, b) = (rest_a, rest_b);
    }
    Ordering::Equal
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_stand_in_the_order_that_dpkg_gives_them() {
        let order =
            ["1.0~~", "1.0~~a", "1.0~", "1.0", "1.0a", "1.0+b1", "1.0.1", "1.2", "1.10", "1.10-1", "1.10-1.1", "1:0.1"];
        for (at, older) in order.iter().enumerate() {
            for newer in &order[at + 1..] {
                assert_eq!(compare_versions(older, newer), Ordering::Less, "{older} {newer}");
                assert_eq!(compare_versions(newer, older), Ordering::Greater, "{newer} {older}");
            }
        }
        assert_eq!(compare_versions("0:01.00-0", "1.0"), Ordering::Equal);
        assert_eq!(compare_versions("1-2-3", "1-2-3"), Ordering::Equal);
    }

    proptest::proptest! {
        #[test]
        fn the_order_is_one(a in "[0-9a-c.~+:-]{0,8}", b in "[0-9a-c.~+:-]{0,8}", c in "[0-9a-c.~+:-]{0,8}") {
            assert_eq!(compare_versions(&a, &b), compare_versions(&b, &a).reverse());
            if compare_versions(&a, &b).is_le() && compare_versions(&b, &c).is_le() {
                assert!(compare_versions(&a, &c).is_le());
            }
        }
    }
}
