//! `proofread`: reads all of Ambrik's own files, and says what is wrong or doubtful in them; changes nothing.

use std::path::Path;

use ambrik_core::nested::Ground;
use ambrik_core::proofread::{Remark, of_site, undescribed, unused};
use ambrik_core::site::Site;

use crate::failure::{Exit, Failure, Wrong};
use crate::output::report::{FilesRead, ProofReport};
use crate::session::{Session, threads};

/// Read the host file, the outlines and all site files, and say what is wrong or doubtful in them
///
/// What is wrong keeps sites from being judged or changed; what is doubtful may be meant: parts that match nothing, sites that no
/// web server serves, served folders that no site file describes, outlines that no site goes by. Changes nothing.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik proofread\n  ambrik proofread --quiet")]
pub(crate) struct ProofreadArgs {}

pub(crate) fn run(session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let mut wrong = Vec::new();
    let mut remarks = Vec::new();
    let (outlines, unlisted) = match session.read_outlines(&looked) {
        Ok(outlines) => (outlines, None),
        Err(says) => (Vec::new(), Some(says)),
    };
    let host_files = match session.behind(&looked) {
        Ok(behind) => behind.host_file.files().count(),
        Err(failure) => {
            wrong.push(Wrong { site: String::new(), says: failure.message });
            0
        }
    };
    let mut sites = 0;
    // What is wrong with the host file would be said of every site.
    if wrong.is_empty() {
        let known = session.known_sites(&looked);
        sites = known.chosen.len() + known.wrong.len();
        let today = jiff::Zoned::now().date();
        for site in &known.chosen {
            remarks.extend(open_to_others(site));
            remarks.extend(of_site(&looked.host, looked.services(), site, today, threads()));
        }
        let grounds: Vec<Ground> = session.grounds(&looked);
        remarks.extend(undescribed(&looked.host, looked.services(), &grounds));
        // What the site files say that cannot be read is not known.
        let all_known = known.wrong.is_empty();
        let goes_by = |name: &str| known.chosen.iter().any(|site| site.outline.as_deref() == Some(name));
        let stem = |file: &Path| file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let sound = outlines.iter().filter(|(_, says)| says.is_none());
        let idle = sound.filter(|(file, _)| all_known && !goes_by(&stem(file)));
        remarks.extend(idle.map(|(file, _)| unused(file)));
        wrong.extend(known.wrong);
    }
    let read = FilesRead { sites, outlines: outlines.len(), host: host_files };
    for says in outlines.into_iter().filter_map(|(_, says)| says).chain(unlisted) {
        // A site that goes by it says the same.
        if !wrong.iter().any(|wrong| wrong.says.contains(&says)) {
            wrong.push(Wrong { site: String::new(), says });
        }
    }
    remarks.sort_by_key(|remark| !remark.is_wrong);
    let is_clean = wrong.is_empty() && remarks.is_empty();
    if !(is_clean && session.terminal.quiet) {
        session.terminal.write(&ProofReport { read, wrong: &wrong, remarks: &remarks })?;
    }
    Ok(if is_clean { Exit::Clean } else { Exit::Findings })
}

/// What others could have written decides nothing.
fn open_to_others(site: &Site) -> Option<Remark> {
    let open = site.exposed.as_ref()?;
    Some(Remark {
        file: open.path.clone(),
        line: None,
        is_wrong: true,
        says: open.why.clone(),
        right: format!("nothing is changed by it until then: {}", open.mend),
    })
}
