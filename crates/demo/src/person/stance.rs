//! Ways to walk and stand. Legs and arms are two bones each whose ends are set by the step, and whose middle follows (Hodgins, Wooten,
//! Brogan and O'Brien 1995 give such angles over a step).

use glam::Vec3;

/// How somebody holds themselves.
#[derive(Clone, Copy)]
pub(crate) enum Stance {
    /// Walking; where in the step, in radians.
    Walks(f32),
    /// Standing; a number that chooses among ways to.
    Stands(f32),
}

/// Height of the hips' joints.
const HIP: f32 = 0.90;
const THIGH: f32 = 0.435;
const SHIN: f32 = 0.415;
const UPPER_ARM: f32 = 0.285;
const FOREARM: f32 = 0.255;
/// From the ground to the ankle.
const ANKLE: f32 = 0.075;

/// Where the middle joint of two bones lies between their ends, bent towards `way`; the far end is drawn
/// in where the bones cannot reach it.
fn joint(from: Vec3, to: Vec3, first: f32, second: f32, way: Vec3) -> (Vec3, Vec3) {
    let out = to - from;
    let far = out.length().clamp(1e-3, 0.995 * (first + second));
    let out = out.normalize_or(Vec3::NEG_Y);
    let along = (far * far + first * first - second * second) / (2.0 * far);
    let beside = (first * first - along * along).max(0.0).sqrt();
    let side = (way - way.dot(out) * out).normalize_or(Vec3::X);
    (from + along * out + beside * side, from + far * out)
}

/// One leg's joints, and how far its heel is off the ground relative to its toes.
pub(super) struct Leg {
    pub hip: Vec3,
    pub knee: Vec3,
    pub ankle: Vec3,
    pub heel: f32,
}

impl Stance {
    pub(super) fn leg(&self, side: f32) -> Leg {
        let hip = Vec3::new(0.088 * side, HIP, 0.0);
        let (ankle, heel) = match *self {
            Self::Walks(phase) => {
                let phase = if side > 0.0 { phase } else { phase + std::f32::consts::PI };
                let (ahead, forth) = phase.sin_cos();
                // On the ground the foot goes back; in the air it comes forth.
                let lift = 0.10 * forth.max(0.0) * (1.0 - 0.4 * ahead);
                let heel = 0.09 * (-ahead - 0.35).max(0.0) / 0.65;
                (
                    Vec3::new(0.075 * side, ANKLE + lift + heel, 0.31 * ahead - 0.04),
                    heel - 0.03 * ahead.max(0.0),
                )
            }
            Self::Stands(way) => {
                let ahead = 0.07 * side * (3.0 * way).sin();
                (Vec3::new(side * (0.10 + 0.03 * (5.0 * way).cos()), ANKLE, ahead - 0.03), 0.0)
            }
        };
        let (knee, ankle) = joint(hip, ankle, THIGH, SHIN, Vec3::new(0.12 * side, 0.0, 1.0));
        Leg { hip, knee, ankle, heel }
    }

    /// Shoulder, elbow and wrist, where the fingers go, and whether a phone is held.
    pub(super) fn arm(&self, side: f32) -> ([Vec3; 3], Vec3, bool) {
        let shoulder = Vec3::new(0.165 * side, 1.385, -0.01);
        let hanging = Vec3::new(0.03 * side, -1.0, 0.15).normalize();
        let (wrist, fingers, phone) = match *self {
            Self::Walks(phase) => {
                let swing = -side * phase.sin();
                let way = Vec3::new(0.06 * side, -0.52 + 0.05 * swing.max(0.0), 0.02 + 0.20 * swing);
                (shoulder + way, (hanging + 0.5 * swing * Vec3::Z).normalize(), false)
            }
            Self::Stands(way) => match ((way.abs() * 7.3) as i32 % 3, side > 0.0) {
                // Something held before the chest and looked at.
                (0, true) => (Vec3::new(0.09, 1.20, 0.25), Vec3::new(-0.55, 0.55, 0.62).normalize(), true),
                // A hand on the hip.
                (1, false) => (Vec3::new(-0.205, 1.03, 0.03), Vec3::new(0.25, -0.75, 0.6).normalize(), false),
                _ => (shoulder + Vec3::new(0.055 * side, -0.525, 0.04), hanging, false),
            },
        };
        let out = Vec3::new(0.8 * side, -0.2, -1.0);
        let (elbow, wrist) = joint(shoulder, wrist, UPPER_ARM, FOREARM, out);
        ([shoulder, elbow, wrist], fingers, phone)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bones_keep_their_length_and_one_foot_is_always_on_the_ground(phase in -20.0f32..20.0) {
            for stance in [Stance::Walks(phase), Stance::Stands(phase)] {
                let legs = [-1.0, 1.0].map(|side| stance.leg(side));
                for leg in &legs {
                    prop_assert!((leg.hip.distance(leg.knee) - THIGH).abs() < 1e-3);
                    prop_assert!((leg.knee.distance(leg.ankle) - SHIN).abs() < 1e-3);
                    prop_assert!(leg.knee.z > leg.hip.lerp(leg.ankle, 0.5).z - 1e-3, "knees bend forward");
                }
                let lowest = legs.iter().map(|leg| leg.ankle.y - leg.heel.max(0.0)).fold(f32::MAX, f32::min);
                prop_assert!((lowest - ANKLE).abs() < 0.03, "{lowest}");
                for side in [-1.0, 1.0] {
                    let ([shoulder, elbow, wrist], fingers, _) = stance.arm(side);
                    prop_assert!((shoulder.distance(elbow) - UPPER_ARM).abs() < 1e-3);
                    prop_assert!((elbow.distance(wrist) - FOREARM).abs() < 1e-3);
                    prop_assert!((fingers.length() - 1.0).abs() < 1e-3);
                }
            }
        }
    }
}
