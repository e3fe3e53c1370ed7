//! What is wrong in a site file, and where.

use std::fmt;
use std::ops::Range;
use std::path::PathBuf;

use crate::shown::Shown;

/// One mistake.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
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
    pub(super) fn at(text: &str, span: &Range<usize>, what: impl Into<String>, right: impl Into<String>) -> Self {
        let before = text.get(..span.start.min(text.len())).unwrap_or(text);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Self {
            line: before.matches('\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
            what: what.into(),
            right: right.into(),
        }
    }
}

/// All mistakes of one site file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problems {
    /// The site file.
    pub file: PathBuf,
    /// In the order of their lines; never empty.
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
            let Problem { line, column, what, right } = problem;
            write!(f, "{}:{line}:{column}: {what}; {right}", Shown(&self.file))?;
        }
        Ok(())
    }
}
