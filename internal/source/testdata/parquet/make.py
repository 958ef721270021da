"""Makes the fixtures of this folder: one table, made up, as several writers of Parquet write it.

Wants pyarrow, duckdb, polars and fastparquet (made with 26.0.1, 2.0.0, 2.1.0 and 2026.9.0).
"""
import datetime as dt, decimal, uuid
import duckdb, fastparquet, pandas, polars, pyarrow as pa, pyarrow.parquet as pq

D = decimal.Decimal
rows = 300
no = list(range(1, rows + 1))
lock = [None if i % 17 == 0 else f"L{i % 24:02d}" for i in no]
remark = [None if i % 5 else f"remark {i}, Zoë \U0001F6A2" if i % 2 else "" for i in no]
toll = [None if i % 11 == 0 else D(i * 37 - 4000) / 100 for i in no]
wide = [D(10) ** 30 * i + D(i) / 10 if i % 3 else -D(i) for i in no]
day = [None if i % 13 == 0 else dt.date(2025, 1, 1) + dt.timedelta(days=i) for i in no]
at = [dt.datetime(2025, 1, 1, 4, 0, 0, i) + dt.timedelta(hours=i) for i in no]
instant = [t.replace(tzinfo=dt.timezone.utc) for t in at]
clock = [dt.time(i % 24, i % 60, 0, i) for i in no]
draught = [None if i % 7 == 0 else i / 8 for i in no]
open_ = [None if i % 19 == 0 else i % 2 == 0 for i in no]

t = pa.table({
    "no": pa.array(no, pa.int64()), "small": pa.array([i % 100 - 50 for i in no], pa.int8()),
    "unsigned": pa.array([i * 10**7 for i in no], pa.uint32()), "lock": pa.array(lock, pa.string()),
    "remark": pa.array(remark, pa.large_string()), "toll": pa.array(toll, pa.decimal128(9, 2)),
    "wide": pa.array(wide, pa.decimal128(38, 1)), "day": pa.array(day, pa.date32()),
    "at": pa.array(at, pa.timestamp("us")), "at_ms": pa.array([x.replace(microsecond=x.microsecond // 1000 * 1000) for x in at], pa.timestamp("ms")),
    "at_ns": pa.array(at, pa.timestamp("ns")), "instant": pa.array(instant, pa.timestamp("us", tz="UTC")),
    "clock": pa.array(clock, pa.time64("us")), "draught": pa.array(draught, pa.float64()), "half": pa.array(draught, pa.float32()),
    "open": pa.array(open_, pa.bool_()),
})
common = dict(row_group_size=128)
pq.write_table(t, "pyarrow-snappy-dictionary.parquet", **common)
pq.write_table(t, "pyarrow-plain-v2-zstd.parquet", use_dictionary=False, compression="zstd", data_page_version="2.0", data_page_size=600, **common)
pq.write_table(t, "pyarrow-delta-brotli.parquet", use_dictionary=False, compression="brotli", column_encoding={"no": "DELTA_BINARY_PACKED", "lock": "DELTA_BYTE_ARRAY", "remark": "DELTA_LENGTH_BYTE_ARRAY", "draught": "BYTE_STREAM_SPLIT"}, **common)
pq.write_table(t, "pyarrow-int96-gzip.parquet", use_deprecated_int96_timestamps=True, compression="gzip", **common)
pq.write_table(t.select(["no", "wide"]), "pyarrow-lz4.parquet", compression="lz4", **common)
pq.write_table(t, "pyarrow-index-crc.parquet", compression="none", write_page_index=True, write_page_checksum=True, store_decimal_as_integer=True, **common)
nested = pa.table({"no": t["no"], "cargo": pa.array([None if i % 10 == 0 else {"code": f"C{i % 7}", "tons": None if i % 4 == 0 else i} for i in no], pa.struct([("code", pa.string()), ("tons", pa.int32())])),
                   "locks": pa.array([[i, i + 1] for i in no], pa.list_(pa.int32()))})
pq.write_table(nested, "pyarrow-nested.parquet", **common)

c = duckdb.connect()
c.register("t", t)
c.execute("COPY (SELECT * FROM t) TO 'duckdb-snappy.parquet' (FORMAT parquet, ROW_GROUP_SIZE 2048)")
c.execute("COPY (SELECT * FROM t) TO 'duckdb-v2-zstd.parquet' (FORMAT parquet, COMPRESSION zstd, PARQUET_VERSION v2)")

polars.from_arrow(t).write_parquet("polars-zstd.parquet", row_group_size=128)
frame = pandas.DataFrame({"no": no, "lock": lock, "draught": draught, "open": pandas.array(open_, dtype="boolean"), "at": pandas.Series(at, dtype="datetime64[us]")})
fastparquet.write("fastparquet-gzip.parquet", frame, compression="GZIP", row_group_offsets=128, object_encoding="utf8")

def text(v):
    if v is None:
        return "∅"
    if isinstance(v, bool):
        return "true" if v else "false"
    if isinstance(v, dt.datetime):
        return v.replace(tzinfo=None).isoformat(" ")
    return str(v)
names = ["no", "small", "unsigned", "lock", "remark", "toll", "wide", "day", "at", "at_ms", "at_ns", "instant", "clock", "draught", "half", "open"]
columns = [t[n].to_pylist() for n in names]
columns[names.index("at_ns")] = at
with open("expected.txt", "w") as f:
    f.write("|".join(names) + "\n")
    for row in zip(*columns):
        f.write("|".join(text(v) for v in row) + "\n")
