//! The timing of bits: how an adapter's clock is divided for a bit rate.
//! Source: ISO 11898-1, section on bit timing.

/// Limits of a controller.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct TimingLimits {
    /// Clock in Hz.
    pub(crate) clock: u32,
    /// Smallest and largest number of time quanta before the sample point, without the first one.
    pub(crate) before: (u32, u32),
    /// Smallest and largest number of time quanta after the sample point.
    pub(crate) after: (u32, u32),
    /// Largest jump for synchronization.
    pub(crate) jump: u32,
    /// Smallest and largest divider of the clock, and its step.
    pub(crate) divider: (u32, u32, u32),
}

/// A division of the clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Timing {
    /// Time quanta before the sample point, without the first one.
    pub(crate) before: u32,
    /// Time quanta after the sample point.
    pub(crate) after: u32,
    /// Largest jump for synchronization.
    pub(crate) jump: u32,
    /// Divider of the clock.
    pub(crate) divider: u32,
}

/// The sample point in thousandths of a bit. Source: CiA 301 and CiA 601-3: 87.5 % up to 500 kbit/s, 80 %
/// up to 800 kbit/s, 75 % above.
fn sample_point(rate: u32) -> u32 {
    match rate {
        0..=500_000 => 875,
        500_001..=800_000 => 800,
        _ => 750,
    }
}

/// The division whose bit rate is exact and whose sample point is nearest to the usual one, with the most
/// time quanta; `None` if there is none.
pub(crate) fn divide(limits: &TimingLimits, rate: u32) -> Option<Timing> {
    let wanted = sample_point(rate);
    let (first, last, step) = limits.divider;
    let dividers = (first.max(1)..=last).step_by(usize::try_from(step.max(1)).ok()?);
    let quanta = |divider: u32| {
        let per_bit = divider.checked_mul(rate).filter(|per_bit| *per_bit > 0)?;
        let total = limits.clock / per_bit;
        (limits.clock.is_multiple_of(per_bit) && total > 2).then_some(total)
    };
    let splits = dividers.filter_map(|divider| Some((divider, quanta(divider)?))).flat_map(|(divider, total)| {
        (limits.after.0.max(1)..=limits.after.1.min(total - 2)).map(move |after| (divider, total, after))
    });
    let fits = splits.filter(|(_, total, after)| (limits.before.0..=limits.before.1).contains(&(total - 1 - after)));
    let distance = |(_, total, after): &(u32, u32, u32)| ((total - after) * 1000 / total).abs_diff(wanted);
    let (divider, total, after) = fits.min_by_key(|split| (distance(split), split.0))?;
    Some(Timing { before: total - 1 - after, after, jump: (after / 2).clamp(1, limits.jump.max(1)), divider })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: 48 MHz / (6 * 500 000) = 16 quanta, of which 14 are before the sample point (87.5 %).
    #[test]
    fn usual_rates_have_their_usual_sample_points() {
        let limits = TimingLimits { clock: 48_000_000, before: (1, 16), after: (1, 8), jump: 4, divider: (1, 1024, 1) };
        let found = divide(&limits, 500_000).unwrap();
        assert_eq!(found, Timing { before: 13, after: 2, jump: 1, divider: 6 });
        for rate in [10_000, 125_000, 250_000, 800_000, 1_000_000] {
            let Timing { before, after, divider, .. } = divide(&limits, rate).unwrap();
            assert_eq!(48_000_000 / divider / (1 + before + after), rate);
        }
        assert_eq!(divide(&limits, 7_777_777), None);
        assert_eq!(divide(&TimingLimits { clock: 0, ..limits }, 500_000), None);
        assert_eq!(divide(&limits, 0), None);
    }
}
