//! Common key times for several tracks, or for the four components of quaternion keys.

use nimble_curve_curves::curve::Curve;
use nimble_curve_curves::fit::{
    Channel, ErrorBound, FittedKey, Interval, Origin, Readings, fit_shared, fit_shared_dense,
};
use nimble_curve_curves::time::Ticks;

use super::measure::FittedChannel;
use super::rotation::{Rotation, SaidBy};
use super::sharing::Shares;
use super::{Fitted, Fitting, moves};

/// How often the room is made smaller where the channels of a track are too far off together, before it is made smaller
/// everywhere.
const ROUNDS: usize = 10;

impl Fitting {
    /// Curves of several tracks with common key times; the tracks lie alongside.
    ///
    /// Each channel starts with all of its track's tolerance. Where the channels together come to more than that, all of
    /// them get less, along the piece in which they do.
    pub fn shared(tracks: &[&Fitting], keep: &[Ticks]) -> Vec<Fitted> {
        let Some(first) = tracks.first() else { return Vec::new() };
        let mut keep = first.indices(keep);
        let mut shares: Vec<Shares> = tracks.iter().map(|_| Shares::whole()).collect();
        let mut rounds = 0;
        loop {
            let (keys, readings) = fitted_keys(tracks, &shares, &keep);
            let mut keys = keys.into_iter();
            let mut fitted = Vec::with_capacity(tracks.len());
            let mut fits = true;
            for ((track, shares), readings) in tracks.iter().zip(&mut shares).zip(readings) {
                let own: Vec<Vec<FittedKey>> = keys.by_ref().take(track.channels.len()).collect();
                let ends: Vec<usize> = own[0].iter().map(|key| key.at as usize).collect();
                let far = track.too_far_to_tell(&ends);
                fits &= far.is_empty();
                keep.extend(far);
                let channels = track.fitted_channels(own, readings, shares);
                let measured = track.measure(&channels);
                fits &= match rounds < ROUNDS {
                    true => !shares.shrink_along(&measured, &ends),
                    false => !shares.shrink(&measured),
                };
                let curves = channels.into_iter().map(|channel| channel.curve).collect();
                let (controller, error) = (track.controller(curves), measured.error);
                fitted.push(Fitted { controller, error, origin: Origin::Fitted });
            }
            if fits {
                return fitted;
            }
            keep.sort_unstable();
            keep.dedup();
            rounds += 1;
        }
    }

    /// The middles of pieces over which a rotation goes so far that quaternion keys at their ends do not tell which way round:
    /// whoever reads them takes the shorter one.
    fn too_far_to_tell(&self, ends: &[usize]) -> Vec<usize> {
        let Some(Rotation { said_by: SaidBy::Components(_), turns }) = &self.rotation else {
            return Vec::new();
        };
        let is_far =
            |piece: &&[usize]| piece[1] - piece[0] > 1 && turns[piece[0]].dot(turns[piece[1]]) < TELLING;
        ends.windows(2).filter(is_far).map(|piece| piece[0] + (piece[1] - piece[0]) / 2).collect()
    }

    /// The channels' curves through their keys; those that never move are constant.
    fn fitted_channels(
        &self,
        keys: Vec<Vec<FittedKey>>,
        readings: Vec<Readings>,
        shares: &Shares,
    ) -> Vec<FittedChannel> {
        let stays = |samples: &[f64]| match self.is_quaternion() {
            // Quaternion keys have all components.
            true => !self.channels.iter().any(|own| moves(own)),
            false => !moves(samples),
        };
        let channels = self.channels.iter().zip(keys).zip(readings);
        let made = channels.map(|((samples, keys), readings)| {
            let stays = stays(samples);
            let fitted = vec![(0, samples.len() - 1)];
            let curve = match stays {
                true => Curve::constant(self.start, samples[0]),
                false => self.curve(&keys, shares.part * self.least_tolerance(), &fitted),
            };
            FittedChannel { curve, moves: !stays, origin: Origin::Fitted, readings, fitted }
        });
        made.collect()
    }

    /// The room around each sample of a channel, as far as the track's shares go; `None` where it is the same around all.
    fn room_of(&self, channel: usize, shares: &Shares) -> Option<Vec<Interval>> {
        let scale = self.rotation.as_ref().map_or(1.0, |rotation| rotation.said_by.scale());
        let turns = match &self.rotation {
            Some(Rotation { said_by: SaidBy::Components(_), .. }) => Some(&self.channels[channel]),
            _ => None,
        };
        if self.parts.is_none() && shares.is_even() && turns.is_none() {
            return None;
        }
        let around = |index: usize| {
            // What lengthens a quaternion does not turn it: only the part across counts.
            let across = turns.map_or(1.0, |own| (1.0 - own[index] * own[index]).max(0.0).sqrt());
            let most = 0.995 * shares.at(index) * self.tolerance_at(index) * scale / across.max(LEAST_ACROSS);
            Interval { low: -most, high: most }
        };
        Some((0..self.len()).map(around).collect())
    }
}

/// Neighbouring quaternion keys are at least so alike: the cosine of half the turn between them, which is less than a half one.
const TELLING: f64 = 0.05;

/// A component of a quaternion has so much of all the room at least.
const LEAST_ACROSS: f64 = 0.1;

/// Keys of all channels of all tracks, and what they were held to between samples.
fn fitted_keys(
    tracks: &[&Fitting],
    shares: &[Shares],
    keep: &[usize],
) -> (Vec<Vec<FittedKey>>, Vec<Vec<Readings>>) {
    let each = || tracks.iter().zip(shares);
    let rooms: Vec<Vec<Option<Vec<Interval>>>> = each()
        .map(|(track, shares)| {
            (0..track.channels.len()).map(|channel| track.room_of(channel, shares)).collect()
        })
        .collect();
    let readings: Vec<Vec<Readings>> = each()
        .map(|(track, shares)| {
            let channels = track.channels.iter().enumerate();
            channels.map(|(channel, samples)| shares.readings(channel, samples)).collect()
        })
        .collect();
    let mut channels: Vec<Channel<'_>> = Vec::new();
    for ((track, shares), (rooms, readings)) in each().zip(rooms.iter().zip(&readings)) {
        let scale = track.rotation.as_ref().map_or(1.0, |rotation| rotation.said_by.scale());
        let tolerance = 0.995 * shares.part * track.tolerance * scale;
        let own = track.channels.iter().zip(rooms.iter().zip(readings));
        channels.extend(own.map(|(samples, (room, readings))| {
            let even = ErrorBound::even(tolerance);
            let room = room.as_deref().map_or(even, |room| ErrorBound::by_sample(tolerance, room));
            match track.stride {
                1 => Channel { samples, room: room.with_readings(readings, samples) },
                _ => Channel { samples, room },
            }
        }));
    }
    let keys = match tracks.first().map_or(1, |track| track.stride) {
        1 => fit_shared(&channels, keep),
        stride => fit_shared_dense(&channels, keep, stride),
    };
    (keys, readings)
}
