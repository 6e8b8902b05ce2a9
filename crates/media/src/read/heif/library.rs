//! The part of libheif's interface that is used, loaded when the first file asks for it: nothing is linked, so Evanu builds and runs
//! without it. Its functions and their types are those of `libheif/heif.h`, unchanged since version 1.4.

#![allow(unsafe_code)] // a C interface; what each call needs is said beside it

use libloading::Library as Loaded;
use std::ffi::{CStr, c_char, c_int, c_void};
use std::marker::PhantomData;
use std::ptr::null_mut;
use std::sync::LazyLock;

/// Names under which it is found.
const NAMES: [&str; 4] = ["libheif.so.1", "libheif.1.dylib", "libheif.dylib", "heif.dll"];

/// Values of its enumerations.
const RGB: c_int = 1;
const INTERLEAVED_RGB: c_int = 10;
const INTERLEAVED_RRGGBB_LE: c_int = 14;
const CHANNEL_INTERLEAVED: c_int = 10;
const PROFILE_NCLX: u32 = u32::from_be_bytes(*b"nclx");
const PROFILE_NONE: u32 = 0;

/// Things that only it knows the inside of.
type Context = c_void;
type Handle = c_void;
type Image = c_void;

#[repr(C)]
struct Failure {
    code: c_int,
    subcode: c_int,
    message: *const c_char,
}

impl Failure {
    fn check(self) -> Result<(), String> {
        if self.code == 0 {
            return Ok(());
        }
        if self.message.is_null() {
            return Err(format!("error {} {}", self.code, self.subcode));
        }
        // SAFETY: a message is a constant or owned by the context, which is alive, and ends with a zero.
        Err(unsafe { CStr::from_ptr(self.message) }.to_string_lossy().into_owned())
    }
}

/// The beginning of `heif_color_profile_nclx`, which is all that is read.
#[repr(C)]
struct Nclx {
    version: u8,
    primaries: c_int,
    transfer: c_int,
}

/// Declares the functions, and loads them all.
macro_rules! functions {
    ($($name:ident = $symbol:literal: fn($($argument:ty),*) $(-> $result:ty)?;)*) => {
        /// Its functions.
        pub(super) struct Library {
            $($name: unsafe extern "C" fn($($argument),*) $(-> $result)?,)*
            // Keeps the functions where they are.
            _loaded: Loaded,
        }

        impl Library {
            fn load(loaded: Loaded) -> Option<Self> {
                // SAFETY: the types are those of its header.
                Some(Self { $($name: *unsafe { loaded.get($symbol) }.ok()?,)* _loaded: loaded })
            }
        }
    };
}

functions! {
    context_alloc = b"heif_context_alloc\0": fn() -> *mut Context;
    context_free = b"heif_context_free\0": fn(*mut Context);
    read_from_memory = b"heif_context_read_from_memory_without_copy\0": fn(*mut Context, *const c_void, usize, *const c_void) -> Failure;
    primary = b"heif_context_get_primary_image_handle\0": fn(*mut Context, *mut *mut Handle) -> Failure;
    handle_release = b"heif_image_handle_release\0": fn(*const Handle);
    width = b"heif_image_handle_get_width\0": fn(*const Handle) -> c_int;
    height = b"heif_image_handle_get_height\0": fn(*const Handle) -> c_int;
    bits = b"heif_image_handle_get_luma_bits_per_pixel\0": fn(*const Handle) -> c_int;
    metadata_ids = b"heif_image_handle_get_list_of_metadata_block_IDs\0": fn(*const Handle, *const c_char, *mut u32, c_int) -> c_int;
    metadata_size = b"heif_image_handle_get_metadata_size\0": fn(*const Handle, u32) -> usize;
    metadata = b"heif_image_handle_get_metadata\0": fn(*const Handle, u32, *mut c_void) -> Failure;
    profile_type = b"heif_image_handle_get_color_profile_type\0": fn(*const Handle) -> u32;
    profile_size = b"heif_image_handle_get_raw_color_profile_size\0": fn(*const Handle) -> usize;
    profile = b"heif_image_handle_get_raw_color_profile\0": fn(*const Handle, *mut c_void) -> Failure;
    nclx = b"heif_image_handle_get_nclx_color_profile\0": fn(*const Handle, *mut *mut Nclx) -> Failure;
    nclx_free = b"heif_nclx_color_profile_free\0": fn(*mut Nclx);
    decode = b"heif_decode_image\0": fn(*const Handle, *mut *mut Image, c_int, c_int, *const c_void) -> Failure;
    image_release = b"heif_image_release\0": fn(*const Image);
    plane = b"heif_image_get_plane_readonly\0": fn(*const Image, c_int, *mut c_int) -> *const u8;
    plane_width = b"heif_image_get_width\0": fn(*const Image, c_int) -> c_int;
    plane_height = b"heif_image_get_height\0": fn(*const Image, c_int) -> c_int;
}

impl Library {
    /// The system's, loaded once; `None` where there is none.
    pub(super) fn get() -> Option<&'static Self> {
        static LIBRARY: LazyLock<Option<Library>> = LazyLock::new(|| {
            // SAFETY: loading it runs nothing but its own initialisation, which needs no more than a process.
            let loaded = NAMES.iter().find_map(|name| unsafe { Loaded::new(*name) }.ok())?;
            Library::load(loaded)
        });
        LIBRARY.as_ref()
    }

    /// Opens a file's content.
    pub(super) fn open<'a>(&'a self, bytes: &'a [u8]) -> Result<File<'a>, String> {
        // SAFETY: it makes a context, which `File` frees.
        let context = unsafe { (self.context_alloc)() };
        if context.is_null() {
            return Err("no memory".into());
        }
        let file = File { library: self, context, bytes: PhantomData };
        // SAFETY: the bytes live as long as the file, and no options are usual ones.
        let read =
            unsafe { (self.read_from_memory)(context, bytes.as_ptr().cast(), bytes.len(), std::ptr::null()) };
        read.check().map(|()| file)
    }
}

/// An opened file.
pub(super) struct File<'a> {
    library: &'a Library,
    context: *mut Context,
    bytes: PhantomData<&'a [u8]>,
}

impl Drop for File<'_> {
    fn drop(&mut self) {
        // SAFETY: nothing of it is alive any more; pictures borrow it.
        unsafe { (self.library.context_free)(self.context) };
    }
}

impl File<'_> {
    /// The picture that is shown first.
    pub(super) fn primary(&self) -> Result<Picture<'_>, String> {
        let mut handle = null_mut();
        // SAFETY: the context is alive; the handle is released by `Picture`.
        unsafe { (self.library.primary)(self.context, &raw mut handle) }.check()?;
        Ok(Picture { library: self.library, handle, file: PhantomData })
    }
}

/// A picture of a file, not yet decoded.
pub(super) struct Picture<'a> {
    library: &'a Library,
    handle: *mut Handle,
    file: PhantomData<&'a File<'a>>,
}

impl Drop for Picture<'_> {
    fn drop(&mut self) {
        // SAFETY: it is released once.
        unsafe { (self.library.handle_release)(self.handle) };
    }
}

// Every call below is given the handle, which is alive as long as the picture.
impl Picture<'_> {
    /// Columns and rows, turned; 0 where they make no sense.
    pub(super) fn size(&self) -> (u32, u32) {
        // SAFETY: see above.
        let (w, h) = unsafe { ((self.library.width)(self.handle), (self.library.height)(self.handle)) };
        (u32::try_from(w).unwrap_or(0), u32::try_from(h).unwrap_or(0))
    }

    /// Bits a sample, 8 where it does not say.
    pub(super) fn bits(&self) -> u32 {
        // SAFETY: see above.
        let bits = unsafe { (self.library.bits)(self.handle) };
        u32::try_from(bits).ok().filter(|bits| (1..=16).contains(bits)).unwrap_or(8)
    }

    /// The colour profile it holds.
    pub(super) fn icc(&self) -> Option<Vec<u8>> {
        // SAFETY: see above; the buffer has the size that is asked for.
        unsafe {
            let kind = (self.library.profile_type)(self.handle);
            if kind == PROFILE_NONE || kind == PROFILE_NCLX {
                return None;
            }
            let mut icc = vec![0u8; (self.library.profile_size)(self.handle)];
            (self.library.profile)(self.handle, icc.as_mut_ptr().cast()).check().ok()?;
            (!icc.is_empty()).then_some(icc)
        }
    }

    /// Primaries and transfer (ITU-T H.273), where it names them.
    pub(super) fn code_points(&self) -> Option<(u8, u8)> {
        let mut found: *mut Nclx = null_mut();
        // SAFETY: see above; what is found is read before it is freed.
        unsafe {
            (self.library.nclx)(self.handle, &raw mut found).check().ok()?;
            let nclx = found.as_ref()?;
            let points = (nclx.version > 0).then_some((nclx.primaries, nclx.transfer));
            (self.library.nclx_free)(found);
            points.and_then(|(p, t)| Some((u8::try_from(p).ok()?, u8::try_from(t).ok()?)))
        }
    }

    /// The block of camera data.
    pub(super) fn exif(&self) -> Option<Vec<u8>> {
        let mut id = 0;
        // SAFETY: see above; one number fits where one is asked for, and the buffer has the size that is asked for.
        unsafe {
            if (self.library.metadata_ids)(self.handle, c"Exif".as_ptr(), &raw mut id, 1) < 1 {
                return None;
            }
            let mut block = vec![0u8; (self.library.metadata_size)(self.handle, id)];
            (self.library.metadata)(self.handle, id, block.as_mut_ptr().cast()).check().ok()?;
            Some(block)
        }
    }

    /// Interleaved RGB of so many columns and rows.
    pub(super) fn eight(&self, width: u32, height: u32) -> Result<Vec<u8>, String> {
        self.rows(INTERLEAVED_RGB, (3 * width as usize, width, height), <[u8]>::to_vec)
    }

    /// The same of deeper samples, of `bits` bits, as codes of sixteen.
    pub(super) fn sixteen(&self, width: u32, height: u32, bits: u32) -> Result<Vec<u16>, String> {
        let most = (1u32 << bits) - 1;
        let code = |b: &[u8]| {
            let own = u32::from(u16::from_le_bytes([b[0], b[1]])).min(most);
            ((own * 65535 + most / 2) / most) as u16
        };
        let row = |row: &[u8]| row.chunks_exact(2).map(code).collect();
        self.rows(INTERLEAVED_RRGGBB_LE, (6 * width as usize, width, height), row)
    }

    fn rows<T>(
        &self,
        chroma: c_int,
        (bytes, width, height): (usize, u32, u32),
        row: impl Fn(&[u8]) -> Vec<T>,
    ) -> Result<Vec<T>, String> {
        let library = self.library;
        let mut image: *mut Image = null_mut();
        // SAFETY: see above; no options are usual ones.
        unsafe { (library.decode)(self.handle, &raw mut image, RGB, chroma, std::ptr::null()) }.check()?;
        let mut stride = 0;
        // SAFETY: the image is alive until it is released below; the plane holds as many rows of `stride` bytes as it says.
        let all = unsafe {
            let plane = (library.plane)(image, CHANNEL_INTERLEAVED, &raw mut stride);
            let size = [library.plane_width, library.plane_height].map(|of| of(image, CHANNEL_INTERLEAVED));
            let fits = size.map(u32::try_from) == [Ok(width), Ok(height)];
            match usize::try_from(stride).ok().filter(|s| fits && *s >= bytes && !plane.is_null()) {
                None => Err("its decoder gives another size than the file".to_owned()),
                Some(stride) => Ok((0..height as usize)
                    .flat_map(|y| row(std::slice::from_raw_parts(plane.add(y * stride), bytes)))
                    .collect()),
            }
        };
        // SAFETY: it is released once, and nothing of it is used any more.
        unsafe { (library.image_release)(image) };
        all
    }
}
