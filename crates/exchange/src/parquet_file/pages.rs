//! What the pages of a Parquet file unpack to, found by reading their heads and, where a codec does not keep to the size that a
//! head names, by unpacking them piece by piece: before the library, which believes them, allocates anything.

use crate::{Error, Result, limits};
use antistasis_core::work::go_on;
use flate2::bufread::MultiGzDecoder;
use parquet::basic::Compression;
use parquet::file::metadata::ColumnChunkMetaData;
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom};

/// Largest page, unpacked. Writers aim at one MiB.
const LARGEST_PAGE: u64 = 128 * 1024 * 1024;
/// Longest head of a page: least and greatest value of the page stand in it.
const LONGEST_HEAD: u64 = 1024 * 1024;
/// Most pages of all columns.
const MOST_PAGES: usize = 2_000_000;
/// The first bytes of a frame of LZ4, which unpacks to up to 255 times its size, whatever the head says.
const LZ4_FRAME: [u8; 4] = [0x04, 0x22, 0x4d, 0x18];
const LARGEST_LZ4_FRAME: u64 = 512 * 1024;

fn damaged() -> Error {
    Error::content("the Parquet file", "the head of a page is damaged", "write it again")
}

/// What the head of a page says.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Head {
    unpacked: u64,
    packed: u64,
}

/// The sum of what the pages of these column chunks unpack to. Errors where a page is larger than is sensible, or unpacks to
/// more than it says.
pub(super) fn unpacked<'a>(
    file: impl Read + Seek,
    chunks: impl Iterator<Item = &'a ColumnChunkMetaData>,
) -> Result<u64> {
    let mut file = BufReader::with_capacity(16 * 1024, file);
    let (mut sum, mut pages) = (0u64, 0);
    for chunk in chunks {
        let offset = |offset: i64| u64::try_from(offset).map_err(|_| damaged());
        let data = offset(chunk.data_page_offset())?;
        let start = match chunk.dictionary_page_offset() {
            Some(dictionary) if dictionary > 0 => data.min(offset(dictionary)?),
            _ => data,
        };
        let mut left = offset(chunk.compressed_size())?;
        file.seek(SeekFrom::Start(start))?;
        while left > 0 {
            go_on();
            pages += 1;
            let (head, length) = head(&mut file)?;
            left = left.checked_sub(length).and_then(|left| left.checked_sub(head.packed)).ok_or_else(damaged)?;
            if head.unpacked > LARGEST_PAGE || pages > MOST_PAGES {
                return Err(Error::content(
                    "the Parquet file",
                    format!("a page of “{}” unpacks to {} bytes", chunk.column_path(), head.unpacked),
                    format!("at most {LARGEST_PAGE}: write it with smaller pages"),
                ));
            }
            keeps_to(&mut file, head, chunk.compression())?;
            sum = sum.saturating_add(head.unpacked);
            limits::unpacks_to("the Parquet file", u64::MAX, sum)?;
        }
    }
    Ok(sum)
}

/// Goes past the body of a page, and refuses one that unpacks to more than its head says.
fn keeps_to(file: &mut (impl BufRead + Seek), head: Head, compression: Compression) -> Result<()> {
    let after = file.stream_position()? + head.packed;
    let more = || {
        Error::content(
            "the Parquet file",
            format!("a page says {} bytes and unpacks to more", head.unpacked),
            "write it again: it is damaged or made to do harm",
        )
    };
    match compression {
        Compression::GZIP(_) => {
            let mut pieces = MultiGzDecoder::new(file.by_ref().take(head.packed));
            let (mut buffer, mut count) = (vec![0; 64 * 1024], 0u64);
            // What is no gzip at all is the library's to tell.
            while let Ok(read @ 1..) = pieces.read(&mut buffer) {
                go_on();
                count += read as u64;
                if count > head.unpacked {
                    return Err(more());
                }
            }
        }
        Compression::LZ4 if head.packed > LARGEST_LZ4_FRAME => {
            let mut first = [0; 4];
            file.read_exact(&mut first)?;
            if first == LZ4_FRAME {
                return Err(more());
            }
        }
        _ => {}
    }
    let here = file.stream_position()?;
    let step = i64::try_from(after).ok().and_then(|after| after.checked_sub_unsigned(here)).ok_or_else(damaged)?;
    file.seek(SeekFrom::Current(step))?;
    Ok(())
}

/// Reads the head of a page, in the compact protocol of Apache Thrift (its specification, "Thrift Compact protocol encoding"; the
/// fields are those of `PageHeader` in the Parquet format); returns its length, too.
fn head(file: &mut impl BufRead) -> Result<(Head, u64)> {
    let mut reader = Compact { file, read: 0 };
    let mut head = [None; 2];
    reader.fields(0, &mut |field, value| {
        if let (2 | 3, Some(value)) = (field, value) {
            head[field as usize - 2] = u64::try_from(value).ok();
        }
    })?;
    let length = reader.read;
    let [Some(unpacked), Some(packed)] = head else { return Err(damaged()) };
    Ok((Head { unpacked, packed }, length))
}

struct Compact<'a, R> {
    file: &'a mut R,
    read: u64,
}

/// Structures and lists in each other.
const DEEPEST: usize = 16;

impl<R: BufRead> Compact<'_, R> {
    fn byte(&mut self) -> Result<u8> {
        let mut byte = [0];
        self.file.read_exact(&mut byte).map_err(|_| damaged())?;
        self.read += 1;
        if self.read > LONGEST_HEAD { Err(damaged()) } else { Ok(byte[0]) }
    }

    fn number(&mut self) -> Result<u64> {
        let mut value = 0u64;
        for shift in (0..64).step_by(7) {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7f).wrapping_shl(shift);
            if byte < 0x80 {
                return Ok(value);
            }
        }
        Err(damaged())
    }

    /// A number with a sign, the zigzag taken off.
    fn signed(&mut self) -> Result<i64> {
        let value = self.number()?;
        Ok((value >> 1) as i64 ^ -((value & 1) as i64))
    }

    fn past(&mut self, bytes: u64) -> Result<()> {
        for _ in 0..bytes {
            self.byte()?;
        }
        Ok(())
    }

    /// The fields of a structure, with their values where these are whole numbers.
    fn fields(&mut self, depth: usize, tell: &mut dyn FnMut(i64, Option<i64>)) -> Result<()> {
        let mut field = 0i64;
        loop {
            let first = self.byte()?;
            if first == 0 {
                return Ok(());
            }
            field = match first >> 4 {
                0 => self.signed()?,
                step => field.saturating_add(i64::from(step)),
            };
            let value = match first & 0x0f {
                1 | 2 => None,
                kind => self.value(kind, depth)?,
            };
            tell(field, value);
        }
    }

    fn value(&mut self, kind: u8, depth: usize) -> Result<Option<i64>> {
        if depth > DEEPEST {
            return Err(damaged());
        }
        match kind {
            1..=3 => self.byte().map(|_| None),
            4..=6 => self.signed().map(Some),
            7 => self.past(8).map(|()| None),
            8 => {
                let length = self.number()?;
                self.past(length).map(|()| None)
            }
            9 | 10 => {
                let first = self.byte()?;
                let count = if first >> 4 == 15 { self.number()? } else { u64::from(first >> 4) };
                for _ in 0..count {
                    self.value(first & 0x0f, depth + 1)?;
                }
                Ok(None)
            }
            12 => self.fields(depth + 1, &mut |_, _| {}).map(|()| None),
            _ => Err(damaged()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    #[test]
    fn a_head_is_read_past_structures_lists_and_texts() {
        // Fields 1 (i32 0), 2 (i32 1000), 3 (i32 300), 5 (structure: i32 7, a text, a list of two i32), written by the
        // specification.
        let bytes = [
            0x15, 0x00, 0x15, 0xd0, 0x0f, 0x15, 0xd8, 0x04, 0x2c, 0x15, 0x0e, 0x18, 2, b'h', b'i', 0x19, 0x25, 2, 4, 0,
            0,
        ];
        let (read, length) = head(&mut Cursor::new(bytes)).unwrap();
        assert_eq!((read, length), (Head { unpacked: 1000, packed: 300 }, bytes.len() as u64));
        assert!(head(&mut Cursor::new(&bytes[..10])).is_err());
        // Sizes below zero, and none.
        assert!(head(&mut Cursor::new([0x25, 0x01, 0x15, 0x02, 0])).is_err());
        assert!(head(&mut Cursor::new([0])).is_err());
    }

    proptest! {
        #[test]
        fn whatever_the_bytes_are_a_head_ends(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = head(&mut Cursor::new(bytes));
        }
    }

    #[test]
    fn a_page_that_unpacks_to_more_than_it_says_is_refused_before_it_is_unpacked() {
        use std::io::Write;
        let packed = |count: usize| {
            let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
            gzip.write_all(&vec![0; count]).unwrap();
            gzip.finish().unwrap()
        };
        let page = packed(3_000_000);
        let says = |unpacked: u64| {
            let head = Head { unpacked, packed: page.len() as u64 };
            let mut file = BufReader::new(Cursor::new([&page[..], b"next"].concat()));
            keeps_to(&mut file, head, Compression::GZIP(parquet::basic::GzipLevel::default()))?;
            let mut rest = String::new();
            file.read_to_string(&mut rest)?;
            Ok::<_, Error>(rest)
        };
        assert_eq!(says(3_000_000).unwrap(), "next");
        assert!(says(2_999_999).unwrap_err().to_string().contains("unpacks to more"));
    }
}
