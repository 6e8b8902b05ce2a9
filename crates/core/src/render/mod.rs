//! The one way pixels are made: a region of a view at a scale, from a recipe, its plan and the sources.
//!
//! A [`Scene`] holds what a picture depends on. Its [`Stages`] make the pixels, in order: the frames are combined, patches are laid,
//! further stages change what lies below them. Every pixel depends only on its place, never on how the picture is cut into blocks: a
//! preview at full scale is the export, byte for byte.
//!
//! ```
//! use evanu_core::geometry::{Rect, Size};
//! use evanu_core::pixel::{FrameSource, MemoryFrame, Samples};
//! use evanu_core::plan::{FrameAlignment, Plan};
//! use evanu_core::recipe::Recipe;
//! use evanu_core::render::{Scene, View};
//! use evanu_core::combine::Method;
//!
//! // Three grey frames; somebody dark stood in one of them.
//! let size = Size::new(20, 10);
//! let frame = |v: u8| MemoryFrame::new(size, Samples::Eight(vec![v; 600]));
//! let frames = [frame(120), frame(20), frame(121)];
//! let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
//! let plan = Plan::of(vec![FrameAlignment::untouched(size); 3]);
//! let recipe = Recipe { method: Method::Median, ..Recipe::new() };
//! let plate = Scene::new(&recipe, &plan, &sources).render(View::Plate, Rect::new(5, 5, 2, 1), 0)?;
//! assert_eq!(plate.data[0] / 257, 120);
//! # Ok::<(), evanu_core::render::RenderError>(())
//! ```

mod aligned;
mod average;
mod combine;
mod compare;
mod detail;
mod error;
mod list;
mod missing;
pub mod origin;
mod output;
mod patches;
mod plate;
mod samples;
mod scene;
mod stack;
mod stage;
mod touches;

pub use aligned::Aligned;
pub use error::RenderError;
pub use list::Stages;
pub use plate::Plate;
pub use scene::{Kept, Scene, View};
pub use stack::Stack;
pub use stage::{Below, Frames, Made, Stage};
