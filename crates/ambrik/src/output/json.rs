//! Results for programs: structs of their own, so that the inner ones can change; described in docs/schemas.
//! Long lists are written as they are walked, never held.

use std::borrow::Cow;
use std::io::{self, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use base64::Engine as _;
use serde::ser::SerializeSeq as _;
use serde::{Serialize, Serializer};

/// A list that is made while it is written.
pub(super) struct Each<F>(pub(super) F);

impl<I, T, F> Serialize for Each<F>
where
    F: Fn() -> I,
    I: Iterator<Item = T>,
    T: Serialize,
{
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        for item in (self.0)() {
            list.serialize_element(&item)?;
        }
        list.end()
    }
}

pub(super) fn print(document: &impl Serialize, out: &mut dyn Write) -> io::Result<()> {
    let mut buffered = io::BufWriter::with_capacity(1 << 16, out);
    serde_json::to_writer_pretty(&mut buffered, document).map_err(io::Error::from)?;
    writeln!(buffered)?;
    buffered.flush()
}

/// A path: as text, and, where that loses something, its bytes in base64.
#[derive(Serialize)]
pub(super) struct PathText<'p> {
    path: Cow<'p, str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_bytes: Option<String>,
}

impl<'p> PathText<'p> {
    pub(super) fn of(path: &'p Path) -> Self {
        let path_bytes = match path.to_str() {
            Some(_) => None,
            None => Some(base64::engine::general_purpose::STANDARD.encode(path.as_os_str().as_bytes())),
        };
        Self { path: path.to_string_lossy(), path_bytes }
    }

    /// As [`Self::of`], of a path that does not last.
    pub(super) fn owned(path: &Path) -> PathText<'static> {
        let PathText { path, path_bytes } = PathText::of(path);
        PathText { path: Cow::Owned(path.into_owned()), path_bytes }
    }
}

#[derive(Serialize)]
pub(super) struct FailedPath {
    #[serde(flatten)]
    pub(super) path: PathText<'static>,
    pub(super) error: String,
}
