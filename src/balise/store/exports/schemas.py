"""The columns of what is exported; docs/scale.md tells of them."""

from __future__ import annotations

import pyarrow as pa

WORD = pa.dictionary(pa.int32(), pa.string())
"""Text that comes again and again; a reader that knows nothing of it sees text."""
_MOMENT = [pa.field("time", pa.timestamp("us", "UTC")), pa.field("unix_nanos", pa.int64())]
_OF_SERIES = [
    pa.field("host", WORD),
    pa.field("attributes", WORD),
    pa.field("part", WORD),
    pa.field("kind", WORD),
    pa.field("unit", WORD),
]
POINTS = pa.schema([*_MOMENT, *_OF_SERIES, pa.field("value", pa.float64())])
ROLLUPS = pa.schema(
    [
        *_MOMENT,
        *_OF_SERIES,
        pa.field("min", pa.float64()),
        pa.field("max", pa.float64()),
        pa.field("sum", pa.float64()),
        pa.field("count", pa.int64()),
        pa.field("last", pa.float64()),
        pa.field("increase", pa.float64()),
        pa.field("seen_seconds", pa.float64()),
    ]
)
EVENTS = pa.schema(
    [
        pa.field("id", pa.string()),
        *_MOMENT,
        pa.field("host", WORD),
        pa.field("severity", WORD),
        pa.field("severity_code", pa.int8()),
        pa.field("body", pa.string()),
        pa.field("attributes", pa.string()),
        pa.field("pattern", pa.int64()),
    ]
)
