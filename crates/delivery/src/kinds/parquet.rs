//! Events as a Parquet file: their time, severity and message as columns, and each event whole.

use std::sync::Arc;

use rockrose_archive::Indexer;
use rockrose_event::usual::Usual;

use crate::now_ms;
use parquet::basic::{Compression, ZstdLevel};
use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;

/// The columns. Times are in microseconds since 1970, UTC; `event` is the event as JSON.
const SCHEMA: &str = "message events {
    optional int64 time (TIMESTAMP(MICROS, true));
    optional binary severity (UTF8);
    optional binary message (UTF8);
    required binary event (UTF8);
}";
/// Most events of a row group.
const GROUP: usize = 64 << 10;

/// The events as one Parquet file.
pub(crate) fn write(events: &[&[u8]], indexer: &mut Indexer) -> parquet::errors::Result<Vec<u8>> {
    let schema = Arc::new(parse_message_type(SCHEMA)?);
    let about = WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::try_new(3)?)).set_created_by("rockrose".to_owned()).build();
    let mut out = Vec::new();
    let mut writer = SerializedFileWriter::new(&mut out, schema, Arc::new(about))?;
    let mut usual = Usual::new(&[]);
    let now = now_ms();
    for group in events.chunks(GROUP) {
        let mut times = Column::default();
        let (mut severities, mut messages) = (Column::default(), Column::default());
        for event in group {
            times.push(indexer.add(event, now).map(jiff::Timestamp::as_microsecond));
            usual.read(event);
            severities.push(usual.severity(event).map(|s| ByteArray::from(s.into_bytes())));
            messages.push(usual.message(event).map(|m| ByteArray::from(m.to_vec())));
        }
        let whole: Vec<ByteArray> = group.iter().map(|e| ByteArray::from(e.to_vec())).collect();
        let mut rows = writer.next_row_group()?;
        let mut number = 0;
        while let Some(mut column) = rows.next_column()? {
            match number {
                0 => column.typed::<Int64Type>().write_batch(&times.values, Some(&times.levels), None)?,
                1 => column.typed::<ByteArrayType>().write_batch(&severities.values, Some(&severities.levels), None)?,
                2 => column.typed::<ByteArrayType>().write_batch(&messages.values, Some(&messages.levels), None)?,
                _ => column.typed::<ByteArrayType>().write_batch(&whole, None, None)?,
            };
            column.close()?;
            number += 1;
        }
        rows.close()?;
    }
    writer.close()?;
    Ok(out)
}

/// Values that are there, and for each row whether there is one.
struct Column<T> {
    values: Vec<T>,
    levels: Vec<i16>,
}

impl<T> Default for Column<T> {
    fn default() -> Self {
        Column { values: Vec::new(), levels: Vec::new() }
    }
}

impl<T> Column<T> {
    fn push(&mut self, value: Option<T>) {
        self.levels.push(i16::from(value.is_some()));
        self.values.extend(value);
    }
}
