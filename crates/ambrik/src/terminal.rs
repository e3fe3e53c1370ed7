//! Where results and remarks go, and how.

use std::collections::BTreeMap;
use std::io::{self, IsTerminal as _, Write};
use std::path::{Path, PathBuf};

use ambrik_core::shown::Shown;
use anstream::adapter::StripBytes;

use crate::failure::{Exit, Failure, Wrong};
use crate::options::{Format, Global, When};
use crate::output::report::Report;
use crate::pasted::{Lines, Pasted};

/// The streams of one run.
pub(crate) struct Terminal<'s> {
    format: Format,
    pub(crate) quiet: bool,
    verbose: bool,
    color: When,
    out: &'s mut dyn Write,
    err: &'s mut dyn Write,
    pasted: Pasted,
    /// What people are told only where something is to be said.
    held: Option<Vec<u8>>,
}

impl<'s> Terminal<'s> {
    pub(crate) fn new(global: &Global, out: &'s mut dyn Write, err: &'s mut dyn Write) -> Self {
        let Global { format, quiet, verbose, color, .. } = *global;
        Self { format, quiet, verbose, color, out, err, pasted: Pasted::of(global), held: None }
    }

    /// With `-q` holds back what people are told of what was done, until it is known whether anything is to be said.
    pub(crate) fn hold(&mut self) {
        if self.quiet && self.format == Format::Text {
            self.held = Some(Vec::new());
        }
    }

    /// Says what was held back; where all went well it is dropped.
    pub(crate) fn release(&mut self, exit: Exit) -> io::Result<()> {
        match self.held.take() {
            Some(held) if exit != Exit::Clean => self.out.write_all(&held),
            _ => Ok(()),
        }
    }

    /// Whether results for people have colours.
    pub(crate) fn has_colours(&self) -> bool {
        match self.color {
            When::Always => true,
            When::Never => false,
            When::Auto => {
                let said = |name: &str| std::env::var(name).unwrap_or_default();
                let never = !said("NO_COLOR").is_empty() || said("CLICOLOR") == "0" || said("TERM") == "dumb";
                io::stdout().is_terminal() && !never
            }
        }
    }

    /// Where results for people go; colours are taken out where they are not wanted.
    pub(crate) fn out(&mut self) -> Box<dyn Write + '_> {
        let has_colours = self.has_colours();
        let to: &mut dyn Write = match &mut self.held {
            Some(held) => held,
            None => &mut *self.out,
        };
        let to: Box<dyn Write> =
            if has_colours { Box::new(to) } else { Box::new(Plain { to, state: StripBytes::new() }) };
        Box::new(Lines::new(to, &self.pasted))
    }

    /// Where results for programs go, unchanged.
    pub(crate) fn raw_out(&mut self) -> &mut dyn Write {
        &mut *self.out
    }

    /// The options that carry the choice of colours on to another run.
    pub(crate) fn color_arguments(&self) -> [std::ffi::OsString; 2] {
        let when = match self.color {
            When::Auto => "auto",
            When::Always => "always",
            When::Never => "never",
        };
        ["--color".into(), when.into()]
    }

    /// Writes a result in the format that was asked for.
    pub(crate) fn write(&mut self, report: &dyn Report) -> io::Result<()> {
        if self.format != Format::Text {
            return Self::write_for_programs(self.format, report, &mut *self.out);
        }
        let mut out = io::BufWriter::new(self.out());
        report.text(&mut out)?;
        out.flush()
    }

    /// Writes a result to a file, at once or not at all: whoever reads there sees the old one or the new one. For people it has
    /// colours only where they are always wanted.
    pub(crate) fn write_to(&self, path: &Path, report: &dyn Report) -> io::Result<()> {
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o666);
        let mut file = tempfile::Builder::new().prefix(".ambrik-").permissions(mode).tempfile_in(folder)?;
        let mut out = io::BufWriter::new(&mut file);
        match self.format {
            Format::Text if self.color == When::Always => report.text(&mut out)?,
            Format::Text => report.text(&mut Plain { to: &mut out, state: StripBytes::new() })?,
            format => Self::write_for_programs(format, report, &mut out)?,
        }
        out.flush()?;
        drop(out);
        file.as_file().sync_all()?;
        file.persist(path).map(|_| ()).map_err(|error| error.error)
    }

    fn write_for_programs(format: Format, report: &dyn Report, out: &mut dyn Write) -> io::Result<()> {
        match format.of_audit() {
            Some(format) => report.of_audit(format, out),
            None => report.json(out),
        }
    }

    /// What was asked for that only audits can be printed as.
    pub(crate) fn format_of_audit(&self) -> Option<Format> {
        Some(self.format).filter(|format| format.of_audit().is_some())
    }

    /// Whether people read along while the work is done.
    pub(crate) fn tells(&self) -> bool {
        self.format == Format::Text
    }

    /// Prints a line of results.
    pub(crate) fn line(&mut self, words: &str) -> io::Result<()> {
        writeln!(self.out(), "{words}")
    }

    /// Says something about what is being done.
    pub(crate) fn say(&mut self, words: &str) {
        if !self.quiet {
            // That a remark cannot be written must not stop the work.
            let _ = writeln!(self.err, "{}", on_lines(&self.pasted.in_text(words)));
        }
    }

    /// Asks something; the answer comes on the same line.
    pub(crate) fn ask(&mut self, words: &str) {
        // Whoever is asked must see what about.
        if let Some(held) = &mut self.held {
            let _ = self.out.write_all(&std::mem::take(held));
            let _ = self.out.flush();
        }
        let _ = write!(self.err, "{words}");
        let _ = self.err.flush();
    }

    /// Says something that only `-v` asks for.
    pub(crate) fn detail(&mut self, words: &str) {
        if self.verbose {
            let _ = writeln!(self.err, "{words}");
        }
    }

    /// Says something that must be known, `-q` or not.
    pub(crate) fn warn(&mut self, words: &str) {
        let _ = writeln!(self.err, "{}", on_lines(&format!("ambrik: {}", self.pasted.in_text(words))));
    }

    /// Names each path that failed with its reason; of very many with the same reason, the first.
    pub(crate) fn report_failures(&mut self, failures: &[(PathBuf, ambrik_core::tree::Failure)]) {
        const NAMED: usize = 20;
        let mut by_reason: BTreeMap<String, Vec<&Path>> = BTreeMap::new();
        for (path, failure) in failures {
            by_reason.entry(failure.to_string()).or_default().push(path);
        }
        for (reason, paths) in by_reason {
            let named = if self.verbose { paths.len() } else { NAMED };
            for path in paths.iter().take(named) {
                self.warn(&format!("{}: {reason}", Shown(path)));
            }
            if paths.len() > named {
                let more = crate::output::paths(crate::output::count(paths.len() - named));
                self.warn(&format!("and {more} more: {reason} (-v names them all)"));
            }
        }
    }

    /// Names the sites that cannot be judged, and what is wrong with their files.
    pub(crate) fn report_wrong(&mut self, wrong: &[Wrong]) {
        for Wrong { says, .. } in wrong {
            for line in says.lines() {
                self.warn(line);
            }
        }
    }

    /// The same for programs: why there is no result.
    pub(crate) fn report_document(&mut self, failure: &Failure) -> io::Result<()> {
        writeln!(self.out, "{:#}", failure.document())
    }

    /// Whether a program reads the results.
    pub(crate) fn is_json(&self) -> bool {
        self.format == Format::Json
    }

    /// Tells why a command ended early.
    pub(crate) fn report(&mut self, failure: &Failure) -> Exit {
        for line in failure.message.lines() {
            let _ = writeln!(self.err, "{}", on_lines(&format!("ambrik: {}", self.pasted.in_text(line))));
        }
        failure.exit
    }

    /// Runs another command line to the same streams.
    pub(crate) fn run_again(&mut self, line: Vec<std::ffi::OsString>) -> Exit {
        crate::run(line, &mut *self.out, &mut *self.err)
    }
}

/// A remark as wide as the terminal that it is read on; in logs and pipes a line stays one.
fn on_lines(words: &str) -> String {
    if !io::stderr().is_terminal() {
        return words.to_owned();
    }
    let options = textwrap::Options::new(crate::output::width()).subsequent_indent("    ").break_words(false);
    words.lines().map(|line| textwrap::fill(line, &options)).collect::<Vec<_>>().join("\n")
}

/// A stream without colours.
struct Plain<'s> {
    to: &'s mut dyn Write,
    state: StripBytes,
}

impl Write for Plain<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        for part in self.state.strip_next(bytes) {
            self.to.write_all(part)?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}
