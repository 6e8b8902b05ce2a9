//! Rays against the still part of a place: a bounding volume hierarchy over a few kinds of shapes.

use glam::Vec3;

/// A half line; `direction` has length one.
#[derive(Clone, Copy)]
pub(crate) struct Ray {
    /// Start.
    pub origin: Vec3,
    /// Unit direction.
    pub direction: Vec3,
}

impl Ray {
    /// The point at a distance.
    pub(crate) fn at(&self, t: f32) -> Vec3 {
        self.origin + t * self.direction
    }
}

/// What a surface is made of; the place gives each its look.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Stuff {
    /// Courtyard, gravel and grass.
    Ground,
    /// Squared stone of the round tower.
    Ashlar,
    /// Rendered wall of the wing.
    Plaster,
    /// Plain dressed stone: sills, cornice, copings.
    Trim,
    /// Sheet metal of the dome.
    Dome,
    /// The dome's slit and other dark openings.
    Dark,
    /// Window glass.
    Glass,
    /// Painted wood.
    Door,
    /// Roof tiles.
    Tiles,
    /// Leaves.
    Leaf,
    /// Bark and posts.
    Bark,
    /// Polished brass.
    Brass,
    /// Grey painted iron.
    Iron,
    /// A notice board.
    Board,
    /// A sheet with a lamp behind it.
    Sheet,
    /// Dark cloth.
    Cloth,
}

/// Shapes; all are closed or seen from both sides.
#[derive(Clone, Copy)]
pub(crate) enum Shape {
    /// Axis-parallel box: corner and opposite corner.
    Box(Vec3, Vec3),
    /// Upright cylinder wall: foot, radius, height.
    Tube(Vec3, f32, f32),
    /// Upper half of a sphere: centre, radius.
    Cupola(Vec3, f32),
    /// Rounded rod between two points.
    Rod(Vec3, Vec3, f32),
    /// A small round leaf: centre, normal, radius.
    Leaf(Vec3, Vec3, f32),
    /// A triangle.
    Triangle(Vec3, Vec3, Vec3),
}

/// A shape and its stuff.
#[derive(Clone, Copy)]
pub(crate) struct Thing {
    /// Geometry.
    pub shape: Shape,
    /// Material.
    pub stuff: Stuff,
}

/// Where a ray meets something.
#[derive(Clone, Copy)]
pub(crate) struct Hit {
    /// Distance.
    pub t: f32,
    /// Outward unit normal, towards the ray's side.
    pub normal: Vec3,
    /// Material.
    pub stuff: Stuff,
}

const NEAR: f32 = 1e-3;

impl Shape {
    fn bounds(&self) -> (Vec3, Vec3) {
        match *self {
            Self::Box(a, b) => (a, b),
            Self::Tube(c, r, h) => (c - Vec3::new(r, 0.0, r), c + Vec3::new(r, h, r)),
            Self::Cupola(c, r) => (c - Vec3::new(r, 0.0, r), c + Vec3::splat(r)),
            Self::Rod(a, b, r) => (a.min(b) - Vec3::splat(r), a.max(b) + Vec3::splat(r)),
            Self::Leaf(c, _, r) => (c - Vec3::splat(r), c + Vec3::splat(r)),
            Self::Triangle(a, b, c) => {
                (a.min(b).min(c) - Vec3::splat(1e-3), a.max(b).max(c) + Vec3::splat(1e-3))
            }
        }
    }

    fn hit(&self, ray: &Ray, far: f32) -> Option<(f32, Vec3)> {
        let (o, d) = (ray.origin, ray.direction);
        let within = |t: f32| t > NEAR && t < far;
        match *self {
            Self::Box(a, b) => {
                let (t0, t1) = ((a - o) / d, (b - o) / d);
                let (low, high) = (t0.min(t1), t0.max(t1));
                let (enter, leave) = (low.max_element(), high.min_element());
                if enter > leave || !within(enter) {
                    return None;
                }
                let axis = if enter == low.x {
                    Vec3::X
                } else if enter == low.y {
                    Vec3::Y
                } else {
                    Vec3::Z
                };
                Some((enter, -axis * d.dot(axis).signum()))
            }
            Self::Tube(c, r, h) => {
                let (px, pz) = (o.x - c.x, o.z - c.z);
                let (a, b) = (d.x * d.x + d.z * d.z, px * d.x + pz * d.z);
                let root = b * b - a * (px * px + pz * pz - r * r);
                if root < 0.0 {
                    return None;
                }
                [-root.sqrt(), root.sqrt()].iter().map(|s| (s - b) / a).find_map(|t| {
                    let p = ray.at(t);
                    let n = Vec3::new(p.x - c.x, 0.0, p.z - c.z) / r;
                    (within(t) && p.y >= c.y && p.y <= c.y + h).then_some((t, n * -n.dot(d).signum()))
                })
            }
            Self::Cupola(c, r) => {
                let p = o - c;
                let b = p.dot(d);
                let root = b * b - p.length_squared() + r * r;
                if root < 0.0 {
                    return None;
                }
                let t = -b - root.sqrt();
                let q = ray.at(t);
                (within(t) && q.y >= c.y).then(|| (t, (q - c) / r))
            }
            Self::Rod(a, b, r) => {
                let (axis, p) = (b - a, o - a);
                let (l2, pd, pp) = (axis.length_squared(), axis.dot(d), axis.dot(p));
                let (m, n) = (d - axis * (pd / l2), p - axis * (pp / l2));
                let (qa, qb, qc) = (m.length_squared(), m.dot(n), n.length_squared() - r * r);
                let root = qb * qb - qa * qc;
                if root < 0.0 || qa < 1e-9 {
                    return None;
                }
                let t = (-qb - root.sqrt()) / qa;
                let s = (pp + t * pd) / l2;
                (within(t) && (0.0..=1.0).contains(&s)).then(|| (t, (p + t * d - s * axis) / r))
            }
            Self::Leaf(c, n, r) => {
                let t = (c - o).dot(n) / d.dot(n);
                (within(t) && (ray.at(t) - c).length_squared() < r * r).then(|| (t, n * -n.dot(d).signum()))
            }
            Self::Triangle(a, b, c) => {
                let (e, f) = (b - a, c - a);
                let p = d.cross(f);
                let det = e.dot(p);
                let s = (o - a) / det;
                let u = s.dot(p);
                let q = s.cross(e);
                let (v, t) = (d.dot(q), f.dot(q));
                let n = e.cross(f).normalize();
                (u >= 0.0 && v >= 0.0 && u + v <= 1.0 && within(t)).then(|| (t, n * -n.dot(d).signum()))
            }
        }
    }
}

enum Node {
    Leaf(usize, usize),
    Split(Box<[(Vec3, Vec3, Node); 2]>),
}

/// Things arranged for quick questions.
pub(crate) struct Things {
    things: Vec<Thing>,
    root: (Vec3, Vec3, Node),
}

fn around(things: &[Thing]) -> (Vec3, Vec3) {
    things
        .iter()
        .map(|t| t.shape.bounds())
        .fold((Vec3::MAX, Vec3::MIN), |(a, b), (c, d)| (a.min(c), b.max(d)))
}

fn build(things: &mut [Thing], first: usize) -> Node {
    if things.len() <= 4 {
        return Node::Leaf(first, first + things.len());
    }
    let middle = |t: &Thing| {
        let (a, b) = t.shape.bounds();
        (a + b) * 0.5
    };
    let (low, high) =
        things.iter().map(middle).fold((Vec3::MAX, Vec3::MIN), |(a, b), m| (a.min(m), b.max(m)));
    let spread = high - low;
    let axis = if spread.x >= spread.y && spread.x >= spread.z {
        0
    } else if spread.y >= spread.z {
        1
    } else {
        2
    };
    let half = things.len() / 2;
    things.select_nth_unstable_by(half, |a, b| middle(a)[axis].total_cmp(&middle(b)[axis]));
    let (a, b) = things.split_at_mut(half);
    let ((a0, a1), (b0, b1)) = (around(a), around(b));
    Node::Split(Box::new([(a0, a1, build(a, first)), (b0, b1, build(b, first + half))]))
}

fn crosses(ray: &Ray, inverse: Vec3, low: Vec3, high: Vec3, far: f32) -> bool {
    let (a, b) = ((low - ray.origin) * inverse, (high - ray.origin) * inverse);
    let (enter, leave) = (a.min(b).max_element(), a.max(b).min_element());
    enter <= leave && leave > 0.0 && enter < far
}

impl Things {
    /// Arranges things.
    pub(crate) fn new(mut things: Vec<Thing>) -> Self {
        let node = build(&mut things, 0);
        let (a, b) = around(&things);
        Self { things, root: (a, b, node) }
    }

    /// The nearest meeting before `far`.
    pub(crate) fn nearest(&self, ray: &Ray, far: f32) -> Option<Hit> {
        let mut best: Option<Hit> = None;
        self.visit(&self.root, ray, ray.direction.recip(), far, &mut |t, normal, stuff| {
            best = Some(Hit { t, normal, stuff });
            t
        });
        best
    }

    /// Whether anything lies before `far`.
    pub(crate) fn blocked(&self, ray: &Ray, far: f32) -> bool {
        let mut any = false;
        self.visit(&self.root, ray, ray.direction.recip(), far, &mut |_, _, _| {
            any = true;
            0.0
        });
        any
    }

    /// Calls `found` for ever nearer meetings; it returns the distance still of interest.
    fn visit(
        &self,
        node: &(Vec3, Vec3, Node),
        ray: &Ray,
        inverse: Vec3,
        far: f32,
        found: &mut impl FnMut(f32, Vec3, Stuff) -> f32,
    ) -> f32 {
        if !crosses(ray, inverse, node.0, node.1, far) {
            return far;
        }
        match &node.2 {
            Node::Leaf(a, b) => self.things[*a..*b].iter().fold(far, |far, thing| {
                thing.shape.hit(ray, far).map_or(far, |(t, n)| found(t, n, thing.stuff))
            }),
            Node::Split(parts) => {
                let far = self.visit(&parts[0], ray, inverse, far, found);
                self.visit(&parts[1], ray, inverse, far, found)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::random::Random;

    #[test]
    fn the_hierarchy_finds_what_a_plain_search_finds() {
        let mut r = Random::new(4);
        let mut p =
            |s: f64| Vec3::new(r.within(-s, s) as f32, r.within(-s, s) as f32, r.within(-s, s) as f32);
        let things: Vec<Thing> = (0..300)
            .map(|i| {
                let (a, b) = (p(9.0), p(2.5).abs());
                let shape = match i % 5 {
                    0 => Shape::Box(a, a + b),
                    1 => Shape::Tube(a, b.x + 0.1, b.y),
                    2 => Shape::Cupola(a, b.x + 0.1),
                    3 => Shape::Rod(a, a + b, 0.1),
                    _ => Shape::Leaf(a, (b + Vec3::splat(0.01)).normalize(), 1.5),
                };
                Thing { shape, stuff: Stuff::Trim }
            })
            .collect();
        let tree = Things::new(things.clone());
        let mut met = 0;
        for _ in 0..500 {
            let ray = Ray { origin: p(12.0), direction: p(1.0).normalize() };
            let plain = things.iter().filter_map(|t| t.shape.hit(&ray, 1e9)).map(|h| h.0).reduce(f32::min);
            assert_eq!(tree.nearest(&ray, 1e9).map(|h| h.t), plain);
            assert_eq!(tree.blocked(&ray, 1e9), plain.is_some());
            met += usize::from(plain.is_some());
        }
        assert!(met > 100);
    }
}
