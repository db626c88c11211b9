//! The JSON Lines of an export as a Parquet file: a column for each key.

use std::fs::File;
use std::io::BufRead;
use std::sync::Arc;

use chrono::DateTime;
use outcrop_core::question::Source;
use parquet::basic::{Compression, ConvertedType, LogicalType, Repetition, TimeUnit, Type as Physical, ZstdLevel};
use parquet::column::writer::ColumnWriter;
use parquet::data_type::ByteArray;
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::{Type, TypePtr};
use serde_json::Value;

/// Rows of a group: they are held until it is written.
const ROWS: usize = 20_000;
/// Bytes of JSON after which a group is written with fewer rows: records may be as large as their attributes.
const BYTES: usize = 32 << 20;

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Holds {
    Text,
    /// Milliseconds of UTC.
    Time,
    Whole,
    Number,
    Truth,
    /// An object, as the text of its JSON.
    Json,
}

type Column = (&'static str, Holds);

const FIRST: [Column; 7] = [
    ("id", Holds::Text),
    ("at", Holds::Time),
    ("service", Holds::Text),
    ("environment", Holds::Text),
    ("version", Holds::Text),
    ("trace_id", Holds::Text),
    ("span_id", Holds::Text),
];

/// The keys of a kind of records, as columns.
fn columns(records: Source) -> Vec<Column> {
    let own: &[Column] = match records {
        Source::Occurrences => &[
            ("endpoint", Holds::Text),
            ("error", Holds::Text),
            ("type", Holds::Text),
            ("message", Holds::Text),
            ("severity", Holds::Whole),
            ("uncaught", Holds::Truth),
            ("user", Holds::Text),
            ("attributes", Holds::Json),
            ("resource", Holds::Json),
        ],
        Source::Requests => &[
            ("endpoint", Holds::Text),
            ("status", Holds::Whole),
            ("failed", Holds::Truth),
            ("duration_ms", Holds::Number),
            ("attributes", Holds::Json),
        ],
        Source::Lines => &[
            ("severity", Holds::Whole),
            ("message", Holds::Text),
            ("attributes", Holds::Json),
            ("resource", Holds::Json),
        ],
    };
    FIRST.iter().chain(own).copied().collect()
}

fn schema(columns: &[Column]) -> Result<TypePtr, ParquetError> {
    let fields = columns.iter().map(|(name, holds)| {
        let (physical, logical, converted) = match holds {
            Holds::Text | Holds::Json => (Physical::BYTE_ARRAY, Some(LogicalType::String), ConvertedType::UTF8),
            Holds::Time => {
                let utc = LogicalType::timestamp(true, TimeUnit::MILLIS);
                (Physical::INT64, Some(utc), ConvertedType::TIMESTAMP_MILLIS)
            }
            Holds::Whole => (Physical::INT64, None, ConvertedType::NONE),
            Holds::Number => (Physical::DOUBLE, None, ConvertedType::NONE),
            Holds::Truth => (Physical::BOOLEAN, None, ConvertedType::NONE),
        };
        let field = Type::primitive_type_builder(name, physical)
            .with_repetition(Repetition::OPTIONAL)
            .with_logical_type(logical)
            .with_converted_type(converted);
        field.build().map(Arc::new)
    });
    let fields = fields.collect::<Result<Vec<_>, _>>()?;
    Ok(Arc::new(
        Type::group_type_builder("record").with_fields(fields).build()?,
    ))
}

/// Writes the records of lines as a table, and returns how many they are.
///
/// # Errors
/// [`ParquetError`] when a line cannot be read, or the file not be written.
pub(super) fn write(lines: impl BufRead, records: Source, out: File) -> Result<u64, ParquetError> {
    let columns = columns(records);
    let properties = WriterProperties::builder()
        .set_compression(Compression::ZSTD(ZstdLevel::default()))
        .set_created_by(concat!("outcrop ", env!("CARGO_PKG_VERSION")).to_owned())
        .build();
    let mut writer = SerializedFileWriter::new(out, schema(&columns)?, Arc::new(properties))?;
    let (mut rows, mut bytes, mut written): (Vec<Value>, usize, u64) = (vec![], 0, 0);
    for line in lines.lines() {
        let line = line?;
        let row = serde_json::from_str(&line).map_err(|error| ParquetError::External(Box::new(error)))?;
        bytes += line.len();
        rows.push(row);
        written += 1;
        if rows.len() >= ROWS || bytes >= BYTES {
            group(&mut writer, &columns, &rows)?;
            rows.clear();
            bytes = 0;
        }
    }
    if !rows.is_empty() {
        group(&mut writer, &columns, &rows)?;
    }
    writer.close()?;
    Ok(written)
}

fn group(writer: &mut SerializedFileWriter<File>, columns: &[Column], rows: &[Value]) -> Result<(), ParquetError> {
    let mut group = writer.next_row_group()?;
    for (name, holds) in columns {
        let Some(mut column) = group.next_column()? else { break };
        let of = |row: &'_ Value| row.get(*name).filter(|value| !value.is_null()).cloned();
        let cells: Vec<Option<Value>> = rows.iter().map(of).collect();
        match column.untyped() {
            ColumnWriter::ByteArrayColumnWriter(to) => {
                let (values, there) = split(&cells, |value| Some(ByteArray::from(text(value, *holds).as_str())));
                to.write_batch(&values, Some(&there), None)?
            }
            ColumnWriter::Int64ColumnWriter(to) => {
                let (values, there) = split(&cells, |value| whole(value, *holds));
                to.write_batch(&values, Some(&there), None)?
            }
            ColumnWriter::DoubleColumnWriter(to) => {
                let (values, there) = split(&cells, Value::as_f64);
                to.write_batch(&values, Some(&there), None)?
            }
            ColumnWriter::BoolColumnWriter(to) => {
                let (values, there) = split(&cells, Value::as_bool);
                to.write_batch(&values, Some(&there), None)?
            }
            _ => {
                return Err(ParquetError::General(format!(
                    "{name} is of a kind that is not written"
                )));
            }
        };
        column.close()?;
    }
    group.close()?;
    Ok(())
}

/// The values that are there, and for each cell 1 where it has one, else 0.
fn split<T>(cells: &[Option<Value>], read: impl Fn(&Value) -> Option<T>) -> (Vec<T>, Vec<i16>) {
    let cells: Vec<Option<T>> = cells.iter().map(|cell| cell.as_ref().and_then(&read)).collect();
    let there = cells.iter().map(|cell| i16::from(cell.is_some())).collect();
    (cells.into_iter().flatten().collect(), there)
}

fn text(value: &Value, holds: Holds) -> String {
    match value.as_str() {
        Some(text) if holds == Holds::Text => text.to_owned(),
        _ => value.to_string(),
    }
}

fn whole(value: &Value, holds: Holds) -> Option<i64> {
    if holds == Holds::Time {
        let at = DateTime::parse_from_rfc3339(value.as_str()?).ok()?;
        return Some(at.timestamp_millis());
    }
    value.as_i64()
}

#[cfg(test)]
mod tests {
    use parquet::file::reader::{FileReader as _, SerializedFileReader};
    use parquet::record::RowAccessor as _;
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    fn written(lines: &str, records: Source) -> SerializedFileReader<File> {
        let file = tempfile::NamedTempFile::new().unwrap();
        let count = write(lines.as_bytes(), records, file.reopen().unwrap()).unwrap();
        assert_eq!(count, lines.lines().count() as u64);
        SerializedFileReader::new(file.reopen().unwrap()).unwrap()
    }

    #[test]
    fn a_record_keeps_its_values_and_what_it_lacks_stays_empty() {
        let record = json!({
            "id": "0192", "at": "2026-11-23T04:40:01.250Z", "service": "fares", "trace_id": null, "status": 503,
            "failed": true, "duration_ms": 12.5, "attributes": {"berth": "7", "note": "a \"b\""},
        });
        let reader = written(&format!("{record}\n"), Source::Requests);
        let row = reader.get_row_iter(None).unwrap().next().unwrap().unwrap();
        let names: Vec<&String> = row.get_column_iter().map(|(name, _)| name).collect();
        assert_eq!(names.len(), columns(Source::Requests).len());
        assert_eq!(row.get_string(0).unwrap(), "0192");
        assert_eq!(row.get_timestamp_millis(1).unwrap(), 1_795_408_801_250);
        assert!(row.get_string(5).is_err(), "no trace");
        assert_eq!((row.get_long(8).unwrap(), row.get_bool(9).unwrap()), (503, true));
        assert!((row.get_double(10).unwrap() - 12.5).abs() < f64::EPSILON);
        let attributes: Value = serde_json::from_str(row.get_string(11).unwrap()).unwrap();
        assert_eq!(attributes, record["attributes"]);
    }

    #[test]
    fn many_records_come_in_groups_and_none_makes_an_empty_table() {
        let lines = (0..45_000).fold(String::new(), |lines, n| {
            lines + &json!({"id": n.to_string(), "severity": 9}).to_string() + "\n"
        });
        let reader = written(&lines, Source::Lines);
        assert_eq!(reader.metadata().num_row_groups(), 3);
        assert_eq!(reader.metadata().file_metadata().num_rows(), 45_000);
        let none = written("", Source::Occurrences);
        assert_eq!(none.metadata().file_metadata().num_rows(), 0);
    }

    #[test]
    fn a_line_that_is_no_record_is_an_error() {
        let file = tempfile::tempfile().unwrap();
        assert!(write("{\"id\": \"1\"}\nnot json\n".as_bytes(), Source::Lines, file).is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        #[test]
        fn any_text_comes_back(messages in proptest::collection::vec(proptest::option::of(".*"), 1..40)) {
            let lines: String = messages.iter().map(|message| json!({"message": message}).to_string() + "\n").collect();
            let reader = written(&lines, Source::Lines);
            let of = |row: parquet::record::Row| row.get_string(8).ok().cloned();
            let read: Vec<Option<String>> = reader.get_row_iter(None).unwrap().map(|row| of(row.unwrap())).collect();
            prop_assert_eq!(read, messages);
        }
    }
}
