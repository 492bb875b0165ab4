"""Tables as Parquet, in columns with their types. The one file that knows pyarrow, which is an extra."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence

from mossy_compass.errors import Unsupported


def table(rows: Sequence[Mapping[str, object]]) -> bytes:
    """Rows of the same keys as a Parquet file.

    Args:
        rows: at least one.

    Raises:
        Unsupported: pyarrow is not installed.

    """
    try:
        import pyarrow
        from pyarrow import parquet
    except ImportError:
        raise Unsupported("pyarrow is not installed. Install it: pip install 'mossy-compass[parquet]'.") from None
    stream = io.BytesIO()
    parquet.write_table(pyarrow.table({key: [row[key] for row in rows] for key in rows[0]}), stream)
    return stream.getvalue()
