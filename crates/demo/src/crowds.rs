//! Who is at a place, and where each of them is at any time.

use crate::figures::{ALWAYS, Kind, Mover};
use crate::person::{Bag, Below, Dress, Hair, Top};
use crate::shoot::INTERVAL;
use evanu_core::random::Random;
use glam::{Vec2, Vec3};

/// Who is there.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Crowd {
    /// Nobody.
    Nobody,
    /// Visitors who cross, stroll and stand, and a van: the forecourt set.
    Forecourt,
    /// A handful who cross.
    Few,
    /// So many that most places near the middle are taken most of the time.
    Many,
    /// A handful who hardly move on from frame to frame.
    Slow,
    /// A queue that moves up to the tower's door with one gap in it, which is all that is ever seen of what is behind.
    Queue,
    /// One person, who stands elsewhere in the second frame.
    Assistant,
    /// Somebody who stands for a portrait, in the first frame lit by a lamp on a stand.
    Portrait,
    /// A handful who cross, and in one of so many frames somebody who stands right before the camera.
    Near(usize),
    /// Some who cross a hall within ten seconds, before and behind a spot in its corner, and one who stops there.
    Hall,
    /// One who stands before a shrub for two fifths of the time (of the seconds given), then walks away.
    Leaving(f32),
    /// Some who cross, and two who stand for three fifths of the time (of the seconds given).
    Lingering(f32),
}

/// The visitors of a crowd.
pub(crate) fn crowd(seed: u64, who: Crowd) -> Vec<Mover> {
    let mut r = Random::new(seed ^ 0xC20D);
    let mut movers = Vec::new();
    match who {
        Crowd::Queue => return queue(&mut r),
        Crowd::Assistant => return assistant(&mut r),
        Crowd::Portrait => return portrait(&mut r),
        Crowd::Hall => return through(&mut r),
        Crowd::Leaving(time) => return leaving(&mut r, time),
        Crowd::Near(frames) => return near(&mut r, crowd(seed, Crowd::Few), frames),
        _ => {}
    }
    let mut visitor = |start: Vec2, speed: Vec2, rest: (f32, f32), r: &mut Random| {
        let dress = Dress::random(r);
        let scale = if r.unit() < 0.12 { r.within(0.68, 0.8) } else { r.within(0.94, 1.08) } as f32;
        movers.push(Mover {
            kind: Kind::Visitor(dress),
            start,
            speed,
            rest,
            scale,
            stride: r.within(0.0, 6.0) as f32,
            here: ALWAYS,
        });
    };
    let crossing = match who {
        Crowd::Nobody
        | Crowd::Queue
        | Crowd::Assistant
        | Crowd::Portrait
        | Crowd::Hall
        | Crowd::Leaving(_)
        | Crowd::Near(_) => 0,
        Crowd::Forecourt => 10,
        Crowd::Few | Crowd::Slow => 5,
        Crowd::Lingering(_) => 4,
        Crowd::Many => 90,
    };
    if who == Crowd::Slow {
        for _ in 0..crossing {
            let at = Vec2::new(r.within(-6.0, 6.0) as f32, r.within(8.5, 17.0) as f32);
            let pace = r.within(0.08, 0.2) as f32 * if r.unit() < 0.5 { 1.0 } else { -1.0 };
            visitor(at, Vec2::new(pace, 0.0), (-1.0, -1.0), &mut r);
        }
        return movers;
    }
    // Those who cross from side to side, at several distances.
    for k in 0..crossing {
        let right = k % 2 == 0;
        let z = r.within(8.5, 21.0) as f32;
        let pace = r.within(0.7, 1.35) as f32 * if right { 1.0 } else { -1.0 };
        // Everybody is in the middle of the picture at some time of the forty seconds.
        let x = -pace * r.within(2.0, 38.0) as f32;
        visitor(Vec2::new(x, z), Vec2::new(pace, r.within(-0.12, 0.12) as f32), (-1.0, -1.0), &mut r);
        if r.unit() < 0.25 {
            let beside = Vec2::new(x - 0.15, z + 0.62);
            visitor(beside, Vec2::new(pace, 0.0), (-1.0, -1.0), &mut r);
        }
    }
    if let Crowd::Lingering(time) = who {
        for k in 0..2 {
            let from = if k == 0 { 0.0 } else { 0.4 * time };
            let at = Vec2::new(r.within(-4.0, 4.0) as f32, r.within(9.0, 15.0) as f32);
            let speed = Vec2::new(if at.x > 0.0 { 1.1 } else { -1.1 }, 0.0);
            visitor(at - speed * from, speed, (from, from + 0.6 * time), &mut r);
        }
    }
    if who != Crowd::Forecourt {
        return movers;
    }
    // Those who come from the tower's door or go to it.
    for k in 0..3 {
        let away = if k % 2 == 0 { 1.0 } else { -1.0 };
        let start =
            Vec2::new(2.6 + 0.25 * k as f32, 18.6) - Vec2::new(-0.30, -0.55) * away * (7.0 * k as f32);
        visitor(start, Vec2::new(-0.30, -0.55) * away, (-1.0, -1.0), &mut r);
    }
    // Those who stop for a while: at the board, at the telescope, in the middle to take a picture.
    for (x, z, from, to) in [
        (-4.9, 15.2, 3.0, 12.0),
        (-6.6, 15.0, 22.0, 30.0),
        (6.0, 13.6, 0.0, 8.0),
        (8.3, 13.4, 24.0, 33.0),
        (0.4, 12.4, 13.0, 22.0),
        (1.0, 12.9, 13.5, 22.0),
        (-9.4, 18.0, 8.0, 16.0),
        (3.9, 17.0, 29.0, 38.0),
    ] {
        let speed = Vec2::new(if x > 0.0 { 0.95 } else { -0.95 }, -0.15);
        visitor(Vec2::new(x, z) - speed * from, speed, (from, to), &mut r);
    }
    movers.push(Mover {
        kind: Kind::Van,
        start: Vec2::new(-31.0, 20.6),
        speed: Vec2::new(2.3, 0.0),
        rest: (-1.0, -1.0),
        scale: 1.0,
        stride: 0.0,
        here: ALWAYS,
    });
    movers
}

/// The ends of the queue: where one joins it, and the tower's door.
const TAIL: Vec2 = Vec2::new(-5.6, 15.2);
const HEAD: Vec2 = Vec2::new(2.9, 18.4);

/// People who move up to the door, one behind the other, with one gap among them, which moves up with them.
fn queue(r: &mut Random) -> Vec<Mover> {
    let along = (HEAD - TAIL).normalize();
    let (pace, length) = (0.047, HEAD.distance(TAIL));
    let mut movers = Vec::new();
    // How far along the queue each is at first; those below zero have not joined it yet.
    let mut far = length;
    while far > -length {
        far -= r.within(0.68, 0.82) as f32;
        if (0.85..1.7).contains(&far) {
            far -= 2.3;
        }
        let side = r.within(-0.12, 0.12) as f32 * along.perp();
        movers.push(Mover {
            kind: Kind::Visitor(Dress::random(r)),
            start: TAIL + along * far + side,
            speed: along * pace,
            rest: (-1.0, -1.0),
            scale: r.within(0.92, 1.06) as f32,
            stride: r.within(-0.35, 0.35) as f32,
            here: (-far / pace, (length - far) / pace),
        });
    }
    movers
}

/// One who stands before the shrub at the wing, and walks away to the left.
fn leaving(r: &mut Random, time: f32) -> Vec<Mover> {
    let (at, speed) = (Vec2::new(-1.83, 16.4), Vec2::new(-1.5, 0.0));
    // Standing begins before the first frame.
    let from = -1.0;
    vec![Mover {
        kind: Kind::Visitor(Dress { top: Vec3::new(0.40, 0.07, 0.05), ..Dress::random(r) }),
        start: at - speed * from,
        speed,
        rest: (from, 0.4 * time),
        scale: 1.0,
        stride: 0.0,
        here: ALWAYS,
    }]
}

/// Some who walk through the hall.
fn through(r: &mut Random) -> Vec<Mover> {
    // How far ahead, when each is before the corner, and how fast: in metres, seconds, metres a second.
    let ways = [(4.6, 1.7, 1.2), (6.2, 4.3, -1.1), (4.9, 7.2, -1.25)];
    let mut movers: Vec<Mover> = ways
        .into_iter()
        .map(|(z, when, pace): (f32, f32, f32)| {
            let (z, when) = (z + r.within(-0.15, 0.15) as f32, when + r.within(-0.4, 0.4) as f32);
            Mover {
                kind: Kind::Visitor(Dress::random(r)),
                start: Vec2::new(1.95 - pace * when, z),
                speed: Vec2::new(pace, 0.0),
                rest: (-1.0, -1.0),
                scale: r.within(0.92, 1.06) as f32,
                stride: r.within(0.0, 6.0) as f32,
                here: ALWAYS,
            }
        })
        .collect();
    let stops = r.within(-0.9, -0.3) as f32;
    movers.push(Mover {
        kind: Kind::Visitor(Dress::random(r)),
        start: Vec2::new(stops - 1.1 * 2.0, 5.6),
        speed: Vec2::new(1.1, 0.0),
        rest: (2.0, 5.5),
        scale: 1.0,
        stride: 1.0,
        here: ALWAYS,
    });
    movers
}

/// One who stands still for a while, looking some way.
fn standing(kind: Kind, at: Vec2, looking: Vec2, here: (f32, f32)) -> Mover {
    Mover { kind, start: at, speed: looking * 1e-5, rest: (-1.0, -1.0), scale: 1.0, stride: 0.0, here }
}

/// Others, and in one of so many frames somebody right before the camera.
fn near(r: &mut Random, others: Vec<Mover>, frames: usize) -> Vec<Mover> {
    let (z, time) = (r.within(1.3, 2.3) as f32, INTERVAL as f32 * r.below(frames) as f32);
    let at = Vec2::new(r.within(-0.5, 0.5) as f32 * z, z);
    let looking = Vec2::new(r.within(-1.0, 1.0) as f32, r.within(-1.0, 1.0) as f32).normalize_or(Vec2::X);
    let mut movers = others;
    movers.push(standing(Kind::Visitor(Dress::random(r)), at, looking, (time - 1.0, time + 1.0)));
    movers
}

fn assistant(r: &mut Random) -> Vec<Mover> {
    let somebody = Kind::Visitor(Dress { carried: Bag::None, ..Dress::random(r) });
    vec![
        standing(somebody, Vec2::new(-2.3, 7.6), Vec2::new(0.8, -1.0), (f32::MIN, 5.0)),
        standing(somebody, Vec2::new(1.7, 8.3), Vec2::new(-0.6, -1.0), (5.0, f32::MAX)),
    ]
}

fn portrait(r: &mut Random) -> Vec<Mover> {
    let dress = Dress {
        carried: Bag::None,
        below: Below::Skirt,
        over: Top::Long,
        worn: Hair::Long,
        top: Vec3::new(0.34, 0.05, 0.045),
        hair: Vec3::new(0.07, 0.035, 0.016),
        shoes: Vec3::new(0.02, 0.02, 0.022),
        girth: 0.92,
        striped: false,
        ..Dress::random(r)
    };
    let (subject, lamp) = (Vec2::new(0.45, 4.0), Vec2::new(-1.15, 3.5));
    let posed = standing(Kind::Visitor(dress), subject, Vec2::new(-0.25, -1.0), ALWAYS);
    vec![Mover { stride: 0.35, ..posed }, standing(Kind::Lamp, lamp, subject - lamp, (f32::MIN, 5.0))]
}
