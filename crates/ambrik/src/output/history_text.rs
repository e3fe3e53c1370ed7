//! Change sets for people.

use std::io::{self, Write};

use ambrik_core::change::ChangeSet;
use jiff::tz::TimeZone;

use super::number;
use super::table::{ODD, styled, table, write};

pub(crate) fn render(sets: &[ChangeSet], out: &mut dyn Write) -> io::Result<()> {
    if sets.is_empty() {
        return writeln!(out, "nothing has been changed yet");
    }
    let mut rows = table(&["id", "when", "site", "command", "changed", "removed", "failed", "state"]);
    for set in sets {
        let when = set.begun.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string();
        let command = set.undoes.map_or_else(|| set.command.clone(), |id| format!("undo {id}"));
        let count = |n: i64| number(n.unsigned_abs());
        rows.add_row(vec![
            set.id.to_string(),
            when,
            set.site.clone(),
            command,
            count(set.done - set.removed.min(set.done)),
            count(set.removed),
            count(set.failed),
            state(set),
        ]);
    }
    write(&mut rows, &[0, 4, 5, 6], "", out)
}

fn state(set: &ChangeSet) -> String {
    match (set.undone_by, set.ended) {
        (Some(by), _) => format!("taken back by {by}"),
        (None, None) => styled(ODD, "stopped in the middle"),
        (None, Some(_)) if set.failed > 0 => styled(ODD, "done in part"),
        (None, Some(_)) => "done".into(),
    }
}
