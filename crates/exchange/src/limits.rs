//! What a file may hold at most, looked at before anything of that size is allocated.

use crate::{Error, Result};
use antistasis_core::work::go_on;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;
use zip::ZipArchive;

/// Most columns of a table.
pub(crate) const MOST_COLUMNS: usize = 10_000;
/// Most cells of a table that is held in memory as a whole: of a sheet its empty ones, too.
pub(crate) const MOST_CELLS: u64 = 10_000_000;
/// Most text that such a table holds, in bytes.
pub(crate) const MOST_TEXT: usize = 128 * MIB as usize;
/// Longest row of a text file, in bytes.
pub(crate) const LONGEST_ROW: u64 = 16 * MIB;
/// Most bytes that a packed file unpacks to.
pub(crate) const MOST_UNPACKED: u64 = 2048 * MIB;
/// Above so many bytes nothing unpacks to more than so many times its packed size: no record of a plant does.
const SMALL: u64 = 64 * MIB;
const MOST_TIMES: u64 = 200;

const MIB: u64 = 1024 * 1024;

/// Refuses what unpacks to more than is sensible.
pub(crate) fn unpacks_to(what: &str, packed: u64, unpacked: u64) -> Result<()> {
    if unpacked > MOST_UNPACKED || (unpacked > SMALL && unpacked / MOST_TIMES > packed) {
        return Err(Error::content(
            what,
            format!("it unpacks from {packed} bytes to {unpacked} and more"),
            format!("at most {} MiB, and {MOST_TIMES} times the packed size: write it as CSV", MOST_UNPACKED / MIB),
        ));
    }
    Ok(())
}

/// Refuses more columns than a table can have.
pub(crate) fn columns(count: usize) -> Result<()> {
    if count <= MOST_COLUMNS {
        return Ok(());
    }
    let allowed = format!("a table has at most {MOST_COLUMNS}: leave some out");
    Err(Error::content("the file", format!("it has {count} columns"), allowed))
}

/// Refuses a table with more cells than are held in memory.
pub(crate) fn cells(place: &str, rows: u64, columns: u64) -> Result<()> {
    if rows.saturating_mul(columns) <= MOST_CELLS {
        return Ok(());
    }
    Err(Error::content(
        place,
        format!("it spans {rows} rows and {columns} columns"),
        format!("at most {MOST_CELLS} cells together: delete stray cells at its edges, or write it as CSV"),
    ))
}

/// Refuses a workbook that unpacks to more than is sensible, or claims more texts than it has room for.
pub(crate) fn workbook(path: &Path) -> Result<()> {
    let broken = |error: zip::result::ZipError| {
        Error::content("the workbook", error.to_string(), "save it again as XLSX, without a password")
    };
    let mut zip = ZipArchive::new(BufReader::new(File::open(path)?)).map_err(broken)?;
    let mut unpacked = 0;
    for k in 0..zip.len() {
        let mut entry = zip.by_index(k).map_err(broken)?;
        let packed = entry.compressed_size();
        let is_texts = entry.name().is_ok_and(|name| name.to_lowercase().ends_with("sharedstrings.xml"));
        // What an entry says of its own size is not believed.
        let (mut own, mut head, mut buffer) = (0, Vec::new(), vec![0; 64 * 1024]);
        loop {
            go_on();
            let read = entry.read(&mut buffer)?;
            if read == 0 {
                break;
            }
            if is_texts && head.len() < 64 * 1024 {
                head.extend_from_slice(&buffer[..read]);
            }
            own += read as u64;
            unpacks_to("the workbook", packed, own)?;
            unpacks_to("the workbook", u64::MAX, unpacked + own)?;
        }
        unpacked += own;
        if is_texts && own > MOST_TEXT as u64 {
            return Err(Error::content("the workbook", format!("it holds {own} bytes of texts"), "write it as CSV"));
        }
        if is_texts && claimed(&head).is_some_and(|count| count > own) {
            return Err(Error::content("the workbook", "its list of texts is damaged", "save it again as XLSX"));
        }
    }
    Ok(())
}

/// How many texts a list says that it holds.
fn claimed(head: &[u8]) -> Option<u64> {
    let text = String::from_utf8_lossy(head);
    let (_, rest) = text.split_once("uniqueCount")?;
    let digits: String = rest.chars().skip_while(|c| !c.is_ascii_digit()).take_while(char::is_ascii_digit).collect();
    if digits.len() > 18 { Some(u64::MAX) } else { digits.parse().ok() }
}
