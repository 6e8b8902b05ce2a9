//! Many samples of one place become one: order statistics, averages, and whole colours chosen by brightness.
//!
//! ```
//! use evanu_core::combine::{Method, Network, combine};
//!
//! // One pixel of three frames, by channel; somebody stands in the last.
//! let frames = [[[900], [800], [700]], [[910], [805], [701]], [[50], [60], [9000]]];
//! let rows: Vec<_> = frames.iter().map(|f| [&f[0][..], &f[1][..], &f[2][..]]).collect();
//! let [mut r, mut g, mut b] = [[0], [0], [0]];
//! combine(Method::Median, &Network::new(Method::Median, 3), &rows, [&mut r, &mut g, &mut b]);
//! assert_eq!([r, g, b], [[900], [800], [701]]);
//! assert_eq!("rank:75".parse(), Ok(Method::Rank(75)));
//! ```

pub mod consensus;
pub(crate) mod maxflow;
mod network;

use crate::pixel::tone::{linear_of_root, luminance};
pub use network::Network;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// How frames become one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Method {
    /// The average of the frames that show what is behind, as [`consensus`] decided.
    Consensus,
    /// The opposite: everybody who was ever there, at once.
    Everybody,
    /// The average of light without what lies far from the median, by channel.
    Clipped,
    /// The middle value of each channel; the mean of the two middle ones when their number is even.
    Median,
    /// The average of linear light.
    Mean,
    /// The whole colour of the frame with the least luminance.
    Darkest,
    /// The whole colour of the frame with the most luminance.
    Lightest,
    /// The value of each channel at a percentage of the order: 0 is the least, 50 the median, 100 the greatest.
    Rank(u8),
}

impl Method {
    /// Those that are shown beside each other for a place.
    pub const COMPARED: [Self; 7] = [
        Self::Consensus,
        Self::Median,
        Self::Clipped,
        Self::Mean,
        Self::Darkest,
        Self::Lightest,
        Self::Everybody,
    ];
}

impl fmt::Display for Method {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Consensus => f.write_str("consensus"),
            Self::Everybody => f.write_str("everybody"),
            Self::Clipped => f.write_str("clipped"),
            Self::Median => f.write_str("median"),
            Self::Mean => f.write_str("mean"),
            Self::Darkest => f.write_str("darkest"),
            Self::Lightest => f.write_str("lightest"),
            Self::Rank(p) => write!(f, "rank:{p}"),
        }
    }
}

impl From<Method> for String {
    fn from(m: Method) -> Self {
        m.to_string()
    }
}

impl TryFrom<String> for Method {
    type Error = String;
    fn try_from(s: String) -> Result<Self, String> {
        s.parse()
    }
}

impl FromStr for Method {
    type Err = String;

    fn from_str(s: &str) -> Result<Self, String> {
        const THERE: &str = "use auto, consensus, median, mean, clipped, everybody, darkest, lightest or rank:P with P from 0 to 100";
        match s {
            "auto" | "consensus" => Ok(Self::Consensus),
            "median" => Ok(Self::Median),
            "mean" => Ok(Self::Mean),
            "darkest" => Ok(Self::Darkest),
            "lightest" => Ok(Self::Lightest),
            "everybody" => Ok(Self::Everybody),
            "clipped" => Ok(Self::Clipped),
            _ => match s.strip_prefix("rank:").and_then(|p| p.parse().ok()).filter(|&p: &u8| p <= 100) {
                Some(p) => Ok(Self::Rank(p)),
                None => Err(format!("there is no method \"{s}\"; {THERE}")),
            },
        }
    }
}

/// It is written as text.
#[cfg(feature = "schema")]
impl utoipa::PartialSchema for Method {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        let about = "`consensus`, `everybody`, `clipped`, `median`, `mean`, `darkest`, `lightest`, or `rank:P` with P from 0 to 100";
        let text = utoipa::openapi::ObjectBuilder::new().schema_type(utoipa::openapi::Type::String);
        text.description(Some(about)).into()
    }
}

#[cfg(feature = "schema")]
impl utoipa::ToSchema for Method {}

/// One row of one frame: root codes by channel.
pub type Row<'a> = [&'a [u16]; 3];

/// Combines equally long rows of root codes; `network` must be made for this method and number of rows.
///
/// A single row comes back as it is. Cost: linear in pixels; the network's comparisons for order statistics.
pub fn combine(method: Method, network: &Network, rows: &[Row<'_>], out: [&mut [u16]; 3]) {
    let n = out[0].len();
    match method {
        _ if rows.len() == 1 => {
            for (o, r) in out.into_iter().zip(rows[0]) {
                o.copy_from_slice(&r[..n]);
            }
        }
        Method::Median | Method::Rank(_) => {
            for (c, o) in out.into_iter().enumerate() {
                let channel: Vec<&[u16]> = rows.iter().map(|r| r[c]).collect();
                network.run(&channel, o);
            }
        }
        Method::Clipped => {
            for (c, o) in out.into_iter().enumerate() {
                let mut values = vec![0u16; rows.len()];
                for (i, o) in o.iter_mut().enumerate() {
                    values.iter_mut().zip(rows).for_each(|(v, r)| *v = r[c][i]);
                    *o = clipped(&mut values);
                }
            }
        }
        // Consensus and everybody choose before, pixel by pixel; where nothing was chosen all frames count.
        Method::Mean | Method::Consensus | Method::Everybody => {
            // Squares of root codes are linear light; whole numbers, so that the order of frames is no matter.
            for (c, o) in out.into_iter().enumerate() {
                vector::mean(rows, c, o);
            }
        }
        Method::Darkest | Method::Lightest => {
            let sign = if method == Method::Darkest { 1.0 } else { -1.0 };
            let [or, og, ob] = out;
            for i in 0..n {
                let key = |r: &Row<'_>| {
                    let rgb = [0, 1, 2].map(|c| r[c][i]);
                    (sign * luminance(rgb.map(linear_of_root)), rgb)
                };
                let mut best = (key(&rows[0]), 0);
                for (k, r) in rows.iter().enumerate().skip(1) {
                    let v = key(r);
                    if v < best.0 {
                        best = (v, k);
                    }
                }
                (or[i], og[i], ob[i]) = (rows[best.1][0][i], rows[best.1][1][i], rows[best.1][2][i]);
            }
        }
    }
}

#[allow(unsafe_code)] // the dispatch to the processor's vector width is the macro's
mod vector {
    use super::Row;

    /// Samples that are added at a time.
    const CHUNK: usize = 16;

    #[multiversion::multiversion(targets("x86_64+avx2+fma"))]
    pub(super) fn mean(rows: &[Row<'_>], c: usize, out: &mut [u16]) {
        let share = 1.0 / rows.len() as f32;
        // Both halves of the squares by themselves: sums of fewer than 32768 samples are exact.
        let root = |high: u32, low: u32| {
            let sum = (high as i32 as f32).mul_add(65536.0, low as i32 as f32);
            ((sum * share).sqrt() + 0.5) as i32 as u16
        };
        let square = |v: u16| u32::from(v) * u32::from(v);
        let mut chunks = out.chunks_exact_mut(CHUNK);
        let mut at = 0;
        for out in chunks.by_ref() {
            let (mut high, mut low) = ([0u32; CHUNK], [0u32; CHUNK]);
            for row in rows {
                let row = &row[c][at..at + CHUNK];
                for i in 0..CHUNK {
                    high[i] += square(row[i]) >> 16;
                    low[i] += square(row[i]) & 0xFFFF;
                }
            }
            for i in 0..CHUNK {
                out[i] = root(high[i], low[i]);
            }
            at += CHUNK;
        }
        for (i, o) in chunks.into_remainder().iter_mut().enumerate() {
            let squares = || rows.iter().map(|row| square(row[c][at + i]));
            *o = root(squares().map(|s| s >> 16).sum(), squares().map(|s| s & 0xFFFF).sum());
        }
    }
}

/// Mean of the values within three deviations of the median, the deviation being told by the median distance from it
/// (Rousseeuw and Croux 1993).
fn clipped(values: &mut [u16]) -> u16 {
    /// Values this near belong in any case: half an eight-bit step.
    const NEAR: f32 = 130.0;
    values.sort_unstable();
    let (low, high) = (values[(values.len() - 1) / 2], values[values.len() / 2]);
    let middle = (f32::from(low) + f32::from(high)) / 2.0;
    let mut off: Vec<f32> = values.iter().map(|v| (f32::from(*v) - middle).abs()).collect();
    off.sort_unstable_by(f32::total_cmp);
    let limit = (3.0 * 1.4826 * off[off.len() / 2]).max(NEAR);
    let (mut sum, mut count) = (0u64, 0u64);
    for &v in values.iter().filter(|v| (f32::from(**v) - middle).abs() <= limit) {
        sum += u64::from(v) * u64::from(v);
        count += 1;
    }
    ((sum as f64 / count.max(1) as f64).sqrt() + 0.5) as u16
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn run(method: Method, stack: &[Vec<u16>]) -> [Vec<u16>; 3] {
        let n = stack[0].len();
        let rows: Vec<Row<'_>> = stack.iter().map(|s| [&s[..], &s[..], &s[..]]).collect();
        let mut out = [vec![0; n], vec![0; n], vec![0; n]];
        let [a, b, c] = &mut out;
        combine(method, &Network::new(method, stack.len()), &rows, [a, b, c]);
        out
    }

    proptest! {
        #[test]
        fn order_statistics_equal_a_naive_sort(
            stack in (1usize..24, 1usize..150).prop_flat_map(|(n, w)|
                prop::collection::vec(prop::collection::vec(any::<u16>(), w..=w), n..=n)),
            p in 0u8..=100
        ) {
            let n = stack.len();
            let median = run(Method::Median, &stack);
            let rank = run(Method::Rank(p), &stack);
            for x in 0..stack[0].len() {
                let mut v: Vec<u16> = stack.iter().map(|s| s[x]).collect();
                v.sort_unstable();
                let (a, b) = (u32::from(v[(n - 1) / 2]), u32::from(v[n / 2]));
                prop_assert_eq!(u32::from(median[0][x]), (a + b).div_ceil(2));
                let k = (f64::from(p) / 100.0 * (n - 1) as f64).round() as usize;
                prop_assert_eq!(rank[1][x], v[k]);
            }
        }

        #[test]
        fn any_order_of_frames_gives_the_same(
            stack in prop::collection::vec(prop::collection::vec(any::<u16>(), 40..=40), 2..14), turn in 1usize..13
        ) {
            let mut turned = stack.clone();
            turned.rotate_left(turn % stack.len());
            turned.reverse();
            for m in [Method::Median, Method::Darkest, Method::Lightest, Method::Mean, Method::Clipped, Method::Rank(30)] {
                prop_assert_eq!(run(m, &stack), run(m, &turned));
            }
        }
    }

    #[test]
    fn a_clipped_mean_leaves_out_what_lies_far_off() {
        let stack = [[30_000u16], [30_100], [29_900], [30_050], [60_000]].map(|v| v.to_vec());
        assert!(run(Method::Clipped, &stack)[0][0].abs_diff(30_012) < 3);
        assert!(run(Method::Mean, &stack)[0][0] > 36_000);
    }

    #[test]
    fn darkest_takes_a_whole_colour() {
        let (red, green) = ([60000u16, 0, 0], [0u16, 60000, 0]);
        let rows: Vec<[Vec<u16>; 3]> = [red, green].iter().map(|p| p.map(|v| vec![v])).collect();
        let rows: Vec<Row<'_>> = rows.iter().map(|r| [&r[0][..], &r[1][..], &r[2][..]]).collect();
        let mut o = [[0u16; 1]; 3];
        let [a, b, c] = &mut o;
        combine(Method::Darkest, &Network::new(Method::Darkest, 2), &rows, [a, b, c]);
        assert_eq!(o, [[60000], [0], [0]]);
    }

    #[test]
    fn methods_survive_their_names_and_unknown_ones_are_told() {
        for m in [
            Method::Consensus,
            Method::Median,
            Method::Mean,
            Method::Darkest,
            Method::Lightest,
            Method::Rank(7),
        ] {
            assert_eq!(m.to_string().parse::<Method>().unwrap(), m);
        }
        for m in [Method::Everybody, Method::Clipped] {
            assert_eq!(m.to_string().parse::<Method>().unwrap(), m);
        }
        assert!("clip".parse::<Method>().unwrap_err().contains("clipped"));
        assert!("rank:101".parse::<Method>().is_err());
    }
}
