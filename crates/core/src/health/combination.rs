//! One verdict out of several.

use std::fmt;
use std::num::NonZeroU32;

use super::Verdict;
use crate::desired::ids::CheckId;

/// A check that concludes from others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Combination {
    /// The others; at least one.
    pub of: Vec<CheckId>,
    /// How many of them must be up.
    pub need: Need,
}

/// How many of several must be up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Need {
    /// All of them.
    All,
    /// One of them.
    Any,
    /// At least so many.
    AtLeast(NonZeroU32),
}

impl fmt::Display for Need {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Need::All => f.write_str("all"),
            Need::Any => f.write_str("any"),
            Need::AtLeast(count) => write!(f, "{count}"),
        }
    }
}

impl Combination {
    /// Concludes: up or down once what is unknown cannot change that.
    pub fn conclude(&self, verdicts: impl Iterator<Item = Verdict>) -> Verdict {
        let (mut all, mut up, mut down) = (0_u32, 0_u32, 0_u32);
        for verdict in verdicts {
            all += 1;
            up += u32::from(verdict == Verdict::Up);
            down += u32::from(verdict == Verdict::Down);
        }
        let needed = match self.need {
            Need::All => all,
            Need::Any => 1,
            Need::AtLeast(count) => count.get(),
        };
        if up >= needed {
            Verdict::Up
        } else if all - down < needed {
            Verdict::Down
        } else {
            Verdict::Unknown
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// With unknowns, a combination is what all worlds agree on in which they are known.
    fn by_all_worlds(need: Need, verdicts: &[Verdict]) -> Verdict {
        let unknown: Vec<usize> = (0..verdicts.len()).filter(|n| verdicts[*n] == Verdict::Unknown).collect();
        let mut concluded: Vec<bool> = (0..1_u32 << unknown.len())
            .map(|world| {
                let is_up = |n: usize| match unknown.iter().position(|own| *own == n) {
                    Some(bit) => world & (1 << bit) != 0,
                    None => verdicts[n] == Verdict::Up,
                };
                let up = (0..verdicts.len()).filter(|n| is_up(*n)).count();
                match need {
                    Need::All => up == verdicts.len(),
                    Need::Any => up > 0,
                    Need::AtLeast(count) => up >= count.get() as usize,
                }
            })
            .collect();
        concluded.dedup();
        match concluded[..] {
            [true] => Verdict::Up,
            [false] => Verdict::Down,
            _ => Verdict::Unknown,
        }
    }

    proptest! {
        #[test]
        fn a_combination_is_what_a_truth_table_says(
            verdicts in prop::collection::vec(prop::sample::select(vec![Verdict::Up, Verdict::Down, Verdict::Unknown]), 1..7),
            count in 1_u32..7,
        ) {
            let least = NonZeroU32::new(count.min(verdicts.len() as u32)).unwrap();
            for need in [Need::All, Need::Any, Need::AtLeast(least)] {
                let combination = Combination { of: Vec::new(), need };
                prop_assert_eq!(combination.conclude(verdicts.iter().copied()), by_all_worlds(need, &verdicts));
            }
        }
    }
}
