//! What is wrong in a site file, or in what stands behind it, and where.

use std::fmt;
use std::ops::Range;
use std::path::PathBuf;

use super::Source;
use crate::shown::Shown;

/// One mistake.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// The site file, outline or host file.
    pub file: PathBuf,
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
    /// What is wrong.
    pub what: String,
    /// What would be right.
    pub right: String,
}

impl Problem {
    pub(super) fn at(source: &Source, span: &Range<usize>, what: impl Into<String>, right: impl Into<String>) -> Self {
        let text = &*source.text;
        let before = text.get(..span.start.min(text.len())).unwrap_or(text);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Self {
            file: source.file.clone(),
            line: before.matches('\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
            what: what.into(),
            right: right.into(),
        }
    }
}

/// All mistakes of one site file, and of what stands behind it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problems {
    /// Those of the site file first, each file's in the order of their lines; never empty.
    pub list: Vec<Problem>,
}

impl std::error::Error for Problems {}

impl fmt::Display for Problems {
    /// A line for each: `FILE:LINE:COLUMN: what; what would be right`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, problem) in self.list.iter().enumerate() {
            if n > 0 {
                f.write_str("\n")?;
            }
            write!(f, "{problem}")?;
        }
        Ok(())
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { file, line, column, what, right } = self;
        write!(f, "{}:{line}:{column}: {what}; {right}", Shown(file))
    }
}
