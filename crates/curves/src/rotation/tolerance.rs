//! How far off a result may be, which may differ from one stretch of time to another.

/// Factors of a tolerance, one for each of many stretches of time of one length.
#[derive(Clone, Debug, PartialEq)]
pub struct ToleranceScale {
    first: f64,
    length: f64,
    factors: Vec<f64>,
}

impl ToleranceScale {
    /// A factor for each of the stretches that follow each other from `first` on, all `length` ticks long.
    ///
    /// Before the first of them and after the last one those two count. There has to be one factor at least.
    pub fn new(first: f64, length: f64, factors: Vec<f64>) -> ToleranceScale {
        assert!(!factors.is_empty() && length > 0.0, "a scale has stretches of time");
        ToleranceScale { first, length, factors }
    }

    /// The stretch in which an instant lies.
    pub fn stretch(&self, time: f64) -> usize {
        (((time - self.first) / self.length) as usize).min(self.factors.len() - 1)
    }

    /// The factor at an instant.
    pub fn at(&self, time: f64) -> f64 {
        self.factors[self.stretch(time)]
    }

    /// The factors from one instant to another.
    pub fn within(&self, from: f64, to: f64) -> &[f64] {
        &self.factors[self.stretch(from)..=self.stretch(to)]
    }

    /// The least factor.
    pub fn least(&self) -> f64 {
        self.factors.iter().copied().fold(f64::INFINITY, f64::min)
    }

    /// The factors, from the first stretch to the last.
    pub fn factors_mut(&mut self) -> &mut [f64] {
        &mut self.factors
    }
}

/// The largest angle by which a rotation may be off, in radians.
#[derive(Clone, Copy, Debug)]
pub struct AngleTolerance<'a> {
    /// The angle, where nothing else is said.
    pub angle: f64,
    /// Factors of it.
    pub scale: Option<&'a ToleranceScale>,
}

impl AngleTolerance<'_> {
    /// The factor of the angle at an instant.
    pub fn factor(&self, time: f64) -> f64 {
        self.scale.map_or(1.0, |scale| scale.at(time))
    }

    /// What is allowed at all instants: the least of what is allowed at any.
    #[must_use]
    pub fn least(self) -> Self {
        let factor = self.scale.map_or(1.0, ToleranceScale::least);
        AngleTolerance { angle: self.angle * factor, scale: None }
    }

    /// A part of it.
    #[must_use]
    pub fn scaled(self, factor: f64) -> Self {
        AngleTolerance { angle: self.angle * factor, ..self }
    }
}

impl From<f64> for AngleTolerance<'_> {
    fn from(angle: f64) -> Self {
        AngleTolerance { angle, scale: None }
    }
}
