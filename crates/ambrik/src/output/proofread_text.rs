//! What is wrong or doubtful in site files, outlines and the host file: for people, and as `proofread/1`.

use std::io::{self, Write};

use ambrik_core::shown::Shown;
use serde::Serialize;

use super::found::ProofReport;
use super::json::print;
use super::table::{BAD, GOOD, HEAD, ODD, styled, wrapped};
use super::{count, counted};

pub(super) fn render(report: &ProofReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let ProofReport { read, wrong, remarks } = report;
    let wrongs = wrong.iter().map(|wrong| wrong.says.lines().count()).sum::<usize>();
    let wrongs = wrongs + remarks.iter().filter(|remark| remark.is_wrong).count();
    let doubtful = remarks.iter().filter(|remark| !remark.is_wrong).count();
    let files = [
        counted(count(read.sites), "site file", "site files"),
        counted(count(read.outlines), "outline", "outlines"),
        counted(count(read.host), "host file", "host files"),
    ];
    let verdict = match (wrongs, doubtful) {
        (0, 0) => styled(GOOD, "nothing wrong, nothing doubtful"),
        (0, doubtful) => styled(ODD, &format!("nothing wrong, {} doubtful", things(doubtful))),
        (wrongs, 0) => styled(BAD, &format!("{} wrong", things(wrongs))),
        (wrongs, doubtful) => styled(BAD, &format!("{} wrong, {doubtful} doubtful", things(wrongs))),
    };
    wrapped(&format!("{}: {verdict}", files.join(", ")), "", "  ", out)?;
    for line in wrong.iter().flat_map(|wrong| wrong.says.lines()) {
        wrapped(&format!("{} {line}", styled(BAD, "wrong")), "", "    ", out)?;
    }
    for remark in *remarks {
        let kind = if remark.is_wrong { styled(BAD, "wrong") } else { styled(ODD, "doubtful") };
        let line = remark.line.map(|line| format!(":{line}")).unwrap_or_default();
        let place = styled(HEAD, &format!("{}{line}", Shown(&remark.file)));
        wrapped(&format!("{kind} {place}: {}; {}", remark.says, remark.right), "", "    ", out)?;
    }
    Ok(())
}

fn things(many: usize) -> String {
    counted(count(many), "thing", "things")
}

#[derive(Serialize)]
struct Document<'d> {
    ambrik: &'static str,
    read: Read,
    remarks: Vec<RemarkDocument<'d>>,
}

#[derive(Serialize)]
struct Read {
    sites: usize,
    outlines: usize,
    host: usize,
}

#[derive(Serialize)]
struct RemarkDocument<'d> {
    kind: &'static str,
    site: Option<&'d str>,
    file: Option<String>,
    line: Option<usize>,
    says: &'d str,
    remedy: Option<&'d str>,
}

pub(super) fn json(report: &ProofReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let &ProofReport { ref read, wrong, remarks } = report;
    let unread = wrong.iter().flat_map(|wrong| {
        let site = Some(&*wrong.site).filter(|site| !site.is_empty());
        wrong.says.lines().map(move |says| RemarkDocument {
            kind: "wrong",
            site,
            file: None,
            line: None,
            says,
            remedy: None,
        })
    });
    let remarks = remarks.iter().map(|remark| RemarkDocument {
        kind: if remark.is_wrong { "wrong" } else { "doubtful" },
        site: None,
        file: Some(remark.file.to_string_lossy().into_owned()),
        line: remark.line,
        says: &remark.says,
        remedy: Some(&remark.right),
    });
    let read = Read { sites: read.sites, outlines: read.outlines, host: read.host };
    print(&Document { ambrik: "proofread/1", read, remarks: unread.chain(remarks).collect() }, out)
}
