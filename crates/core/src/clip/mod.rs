//! The repair that lives in a clip: an area is covered in each frame by a plate, as that frame shows it.
//!
//! What the area looks like most of the time (the median over time of frames brought to one place and one light) is taken off
//! each frame, and what it looks like behind is put there instead. So the patch has the frame's own grain with all that its coding
//! does, its light, and shadows that fall on it. Who crosses in front differs from what is usual by more than that: there the frame
//! stays ([`front`]); what a thin thing hides of shade and of who passes behind it, its sides tell ([`sides`]). All that holds unless somebody brushed otherwise ([`Stroke`]). A camera that moves a little is followed ([`motion`]). Outside the area no sample changes.
//!
//! All in the samples of the clip: brightness and colour differences, by planes. Cost: some tens of operations a pixel of the area and a
//! rim around it; memory is that of the sampled frames of the area.
//!
//! ```
//! use evanu_core::clip::{Area, Cover, Planes};
//! use evanu_core::geometry::Size;
//!
//! // A grey wall with a dark post, in nine frames with a little noise; behind it the wall goes on.
//! let (w, n) = (80, 80 * 60);
//! let post = |p: usize| (36..44).contains(&(p % w));
//! let mask: Vec<f32> = (0..n).map(|p| if post(p) { 1.0 } else { 0.0 }).collect();
//! let area = Area::new(&mask, Size::new(80, 60), (0, 0)).expect("it covers something");
//! let frame = |k: usize| -> [Vec<u16>; 3] {
//!     let code = |p: usize| if post(p) { 40 } else { 120 } + ((p * 7 + 3 * k) % 3) as u16;
//!     [(0..n).map(code).collect(), vec![128; n], vec![128; n]]
//! };
//! let size = Size::new(80, 60);
//! let seen: Vec<Planes> = (0..9).map(|k| area.cut(&frame(k), size)).collect();
//! let pixels = area.part.size().pixels() as usize;
//! let behind = [vec![121.0; pixels], vec![128.0; pixels], vec![128.0; pixels]];
//! let cover = Cover::new(area, &seen, behind, ([0.0, 128.0, 128.0], 255), None);
//! let mut shown = frame(4);
//! let mut part = cover.area().cut(&shown, size);
//! let told = cover.lay(4, &mut part, &[], None);
//! cover.area().put(&part, &mut shown, size);
//! assert!(told.contact == 0.0 && (118..=124).contains(&shown[0][30 * w + 40]), "the post is gone");
//! assert_eq!(shown[0][30 * w + 20], frame(4)[0][30 * w + 20], "outside nothing changes");
//! ```

mod area;
mod brush;
mod cover;
mod crossings;
mod front;
mod light;
mod motion;
mod repair;
mod returned;
mod sides;
mod steady;
mod usual;

pub use area::{Area, Planes};
pub use brush::{Stroke, carried};
pub use cover::{Cover, Told};
pub use crossings::{Crossing, crossings, moves_far};
pub use repair::{Frame, Repair};
pub use returned::changed;
pub use steady::{Moved, Remark, Small, remarks};
