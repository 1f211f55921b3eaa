//! Time series of bounded size that never lose a spike.

/// What a bucket of a [`Timeline`] must be able to do: take in its neighbour.
pub trait Merge: Copy {
    /// Both together.
    #[must_use]
    fn merge(self, other: Self) -> Self;
}

/// Lowest, mean and highest reading of one stretch of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bucket {
    /// Lowest reading.
    pub lowest: f32,
    /// Highest reading.
    pub highest: f32,
    sum: f32,
    count: f32,
}

impl Bucket {
    /// A single reading.
    #[must_use]
    pub fn of(value: f32) -> Self {
        Self { lowest: value, highest: value, sum: value, count: 1.0 }
    }

    /// Many readings, those that are no number left out; none where there is none left.
    #[must_use]
    pub fn of_all(values: &[f32]) -> Option<Self> {
        let mut all =
            Self { lowest: f32::INFINITY, highest: f32::NEG_INFINITY, sum: 0.0, count: 0.0 };
        // Without branches: a day's trace has eleven million readings to go through.
        for value in values {
            let present = f32::from(u8::from(!value.is_nan()));
            all.lowest = all.lowest.min(*value);
            all.highest = all.highest.max(*value);
            all.sum += if value.is_nan() { 0.0 } else { *value };
            all.count += present;
        }
        (all.count > 0.0).then_some(all)
    }

    /// Mean of the readings.
    #[must_use]
    pub fn mean(self) -> f32 {
        self.sum / self.count
    }
}

impl Merge for Bucket {
    fn merge(self, other: Self) -> Self {
        Self {
            lowest: self.lowest.min(other.lowest),
            highest: self.highest.max(other.highest),
            sum: self.sum + other.sum,
            count: self.count + other.count,
        }
    }
}

/// Lowest, mean and highest of one channel over time.
pub type Strip = Timeline<Bucket>;

/// Readings in buckets of equal length. When all buckets are used, neighbours are joined and the
/// length doubles, so that any run fits and every extreme stays visible. A stretch without a
/// reading is a gap (`None`).
///
/// ```
/// use yard_step_core::Strip;
///
/// let mut strip = Strip::new(4, 1.0);
/// for second in 0..8 {
///     strip.reading(f64::from(second), (second != 5).then_some(if second == 3 { 9.0 } else { 1.0 }));
/// }
/// assert_eq!(strip.bucket_seconds(), 2.0);
/// assert_eq!(strip.buckets()[1].map(|bucket| bucket.highest), Some(9.0));
/// ```
#[derive(Debug, Clone, PartialEq)]
pub struct Timeline<B> {
    buckets: Vec<Option<B>>,
    capacity: usize,
    bucket_seconds: f64,
}

impl Strip {
    /// Takes one reading in at `at` seconds. What is missing or no number is a gap.
    pub fn reading(&mut self, at: f64, value: Option<f64>) {
        let value = value.filter(|value| value.is_finite()).map(|value| value as f32);
        self.push(at, value.map(Bucket::of));
    }
}

impl<B: Merge> Timeline<B> {
    /// An empty line of at most `capacity` buckets (at least two), each `bucket_seconds` long at
    /// first.
    #[must_use]
    pub fn new(capacity: usize, bucket_seconds: f64) -> Self {
        Self { buckets: Vec::new(), capacity: capacity.max(2), bucket_seconds }
    }

    /// Takes one bucket's worth in at `at` seconds; a negative or endless time is passed over.
    pub fn push(&mut self, at: f64, value: Option<B>) {
        if !at.is_finite() || at < 0.0 {
            return;
        }
        while self.index(at) >= self.capacity {
            self.halve();
        }
        let index = self.index(at);
        if self.buckets.len() <= index {
            self.buckets.resize(index + 1, None);
        }
        let slot = &mut self.buckets[index];
        *slot = slot.iter().copied().chain(value).reduce(B::merge);
    }

    /// The buckets, in order of time.
    #[must_use]
    pub fn buckets(&self) -> &[Option<B>] {
        &self.buckets
    }

    /// Length of one bucket in seconds.
    #[must_use]
    pub fn bucket_seconds(&self) -> f64 {
        self.bucket_seconds
    }

    /// The whole length so far in seconds.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        self.buckets.len() as f64 * self.bucket_seconds
    }

    /// All buckets in one.
    #[must_use]
    pub fn extent(&self) -> Option<B> {
        self.buckets.iter().flatten().copied().reduce(B::merge)
    }

    /// What lies in column `column` of `columns`, when the time `0..seconds` is spread over them.
    /// A column narrower than a bucket shows the bucket it lies in.
    #[must_use]
    pub fn column(&self, column: usize, columns: usize, seconds: f64) -> Option<B> {
        if columns == 0 || seconds <= 0.0 {
            return None;
        }
        let width = seconds / columns as f64;
        let first = self.index(column as f64 * width + 1e-9);
        let end = ((column + 1) as f64 * width / self.bucket_seconds - 1e-9).ceil() as usize;
        let end = end.max(first + 1).min(self.buckets.len());
        self.buckets.get(first..end)?.iter().flatten().copied().reduce(B::merge)
    }

    fn index(&self, at: f64) -> usize {
        (at / self.bucket_seconds) as usize
    }

    fn halve(&mut self) {
        self.buckets = self
            .buckets
            .chunks(2)
            .map(|pair| pair.iter().flatten().copied().reduce(B::merge))
            .collect();
        self.bucket_seconds *= 2.0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(10)]
    #[case(1_000)]
    #[case(100_000)]
    fn a_single_sample_spike_survives_any_length(#[case] samples: usize) {
        let mut strip = Strip::new(64, 0.1);
        for index in 0..samples {
            let value = if index == samples / 3 { 55.0 } else { 2_000.0 };
            strip.reading(index as f64 * 0.1, Some(value));
        }
        assert!(strip.buckets().len() <= 64);
        assert_eq!(strip.extent().map(|bucket| bucket.lowest), Some(55.0));
        let seen = (0..20)
            .filter_map(|column| strip.column(column, 20, strip.seconds()))
            .any(|bucket| bucket.lowest == 55.0);
        assert!(seen, "the spike must be in some column");
    }

    #[test]
    fn the_mean_is_that_of_all_readings_however_often_buckets_were_joined() {
        let mut strip = Strip::new(4, 1.0);
        for second in 0..64 {
            strip.reading(f64::from(second), Some(f64::from(second)));
        }
        assert_eq!(strip.extent().map(Bucket::mean), Some(31.5));
        assert_eq!(strip.buckets()[0].map(Bucket::mean), Some(7.5));
    }

    #[test]
    fn a_stretch_without_readings_is_a_gap() {
        let mut strip = Strip::new(16, 1.0);
        strip.reading(0.0, Some(1.0));
        strip.reading(1.0, None);
        strip.reading(3.0, Some(f64::NAN));
        strip.reading(5.0, Some(2.0));
        let present: Vec<bool> = strip.buckets().iter().map(Option::is_some).collect();
        assert_eq!(present, [true, false, false, false, false, true]);
    }

    #[test]
    fn columns_beyond_the_data_are_empty() {
        let mut strip = Strip::new(16, 1.0);
        for second in 0..5 {
            strip.reading(f64::from(second), Some(1.0));
        }
        assert!(strip.column(4, 10, 10.0).is_some());
        assert_eq!(strip.column(5, 10, 10.0), None);
        assert_eq!(strip.column(0, 0, 10.0), None);
        assert_eq!(strip.column(0, 10, 0.0), None);
    }
}
