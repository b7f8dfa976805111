//! Seeded numbers, so that a test does the same in every run.

/// A small generator (xorshift64). The seed must not be 0.
#[derive(Clone, Debug)]
pub struct Random(pub u64);

impl Random {
    /// The next number.
    pub fn next_u64(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    /// A number below a limit; 0 if the limit is 0 or 1.
    pub fn below(&mut self, limit: usize) -> usize {
        usize::try_from(self.next_u64() % limit.max(1) as u64).unwrap_or_default()
    }

    /// One of several choices.
    ///
    /// # Panics
    /// If there are no choices.
    pub fn choose<'a, T>(&mut self, choices: &'a [T]) -> &'a T {
        &choices[self.below(choices.len())]
    }

    /// One of several choices, cloned.
    ///
    /// # Panics
    /// If there are no choices.
    pub fn pick<T: Clone>(&mut self, choices: &[T]) -> T {
        self.choose(choices).clone()
    }

    /// True with probability 1 / `times`.
    pub fn once_in(&mut self, times: usize) -> bool {
        self.below(times) == 0
    }
}
