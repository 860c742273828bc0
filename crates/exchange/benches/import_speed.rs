//! How long a CSV file of 2 million rows × 6 columns (and a time) takes to become a record, beside the crate `csv`
//! alone with the standard
//! library's numbers, as one would put it together without this project.

#![allow(clippy::unwrap_used, clippy::expect_used)]

use antistasis_exchange::{Reading, preview, read};
use criterion::{Criterion, criterion_group, criterion_main};
use std::hint::black_box;
use std::io::Write;
use std::path::Path;
use tempfile::NamedTempFile;

const ROWS: usize = 2_000_000;

fn file() -> NamedTempFile {
    let mut file = NamedTempFile::new().unwrap();
    {
        let mut target = std::io::BufWriter::new(file.as_file_mut());
        writeln!(target, "time [s],T.PV [°C],T.OP [%],T.SP [°C],FEED [t/h],X,Y").unwrap();
        for k in 0..ROWS {
            let wave = (k as f64 * 1e-3).sin();
            writeln!(
                target,
                "{k},{:.3},{:.2},75,{:.2},{:.4},{}",
                75.0 + wave,
                45.0 + 5.0 * f64::from(k as u32 / 3000 % 2),
                9.0 + 0.3 * wave,
                wave * wave,
                k % 1000
            )
            .unwrap();
        }
    }
    file
}

/// All cells as numbers, a column each.
fn plainly(path: &Path) -> Vec<Vec<f64>> {
    let mut reader = csv::Reader::from_path(path).unwrap();
    let mut columns = vec![Vec::new(); reader.headers().unwrap().len()];
    let mut row = csv::StringRecord::new();
    while reader.read_record(&mut row).unwrap() {
        for (column, cell) in columns.iter_mut().zip(&row) {
            column.push(cell.parse().unwrap_or(f64::NAN));
        }
    }
    columns
}

fn imports(criterion: &mut Criterion) {
    let file = file();
    let guess = preview(file.path(), &Reading::default()).unwrap().guess;
    assert_eq!(guess.channels.len(), 6);
    let mut group = criterion.benchmark_group("CSV, 2 million rows x 6 columns");
    group.sample_size(10);
    group.bench_function("antistasis, all six channels", |bencher| {
        bencher.iter(|| black_box(read(file.path(), &guess, &mut |_| true).unwrap()));
    });
    group.bench_function("csv alone, all cells parsed", |bencher| bencher.iter(|| black_box(plainly(file.path()))));
    group.finish();
}

criterion_group!(benches, imports);
criterion_main!(benches);
