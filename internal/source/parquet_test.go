package source

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

func parquetSource(columns ...star.Column) *star.Source {
	return &star.Source{
		Name:    star.Name{Text: "test"},
		Files:   star.Files{Format: star.Parquet, Read: []star.Name{{Text: "*.parquet"}}},
		Columns: columns,
	}
}

func asColumn(name, typ, path string) star.Column {
	t, _ := column.ParseType(typ)
	return star.Column{Name: star.Name{Text: name}, Type: t, Header: path}
}

// readParquet reads all rows of one file as text, null as ∅, with what was set aside.
func readParquet(
	file string,
	zone *time.Location,
	columns ...star.Column,
) (fields []column.Field, rows [][]string, aside []string, err error) {
	root, err := os.OpenRoot(filepath.Dir(file))
	if err != nil {
		return nil, nil, nil, err
	}
	defer root.Close()
	s := parquetSource(columns...)
	s.Read[0].Text = filepath.Base(file)
	in := &Inputs{Model: &star.Model{Zone: zone}, Root: root}
	if columns == nil {
		if s.Columns, err = in.Columns(context.Background(), s, nil); err != nil {
			return nil, nil, nil, err
		}
		s.Columns = slices.DeleteFunc(s.Columns, func(c star.Column) bool { return c.Type.Kind == column.Null })
	}
	p, err := in.Open(context.Background(), s, nil, func(string) bool { return true })
	if err != nil {
		return nil, nil, nil, err
	}
	b := column.NewBatch(p.Fields())
	for piece, err := range p.Pieces(context.Background()) {
		if err == nil {
			err = piece.Fill(b)
		}
		if err != nil {
			return p.Fields(), rows, aside, err
		}
		for i := range b.N {
			var row []string
			for k := range b.Cols {
				if row = append(row, b.Cols[k].Value(i)); b.Cols[k].Null[i] {
					row[k] = "∅"
				}
			}
			rows = append(rows, row)
			if b.From.Line[i] != int64(len(rows)) {
				return nil, nil, nil, fmt.Errorf("row %d is said to be row %d", len(rows), b.From.Line[i])
			}
			if want := strings.Join(row, ","); len(b.Faults) == 0 && !strings.ContainsAny(want, "∅\" ") &&
				b.From.Raw(i) != want {
				return nil, nil, nil, fmt.Errorf("row %d is %s as read, and %s", len(rows), b.From.Raw(i), want)
			}
		}
		for _, f := range b.Faults {
			aside = append(aside, fmt.Sprintf("%d %s %s", b.From.Line[f.Row], f.Reason, f.Detail))
		}
	}
	return p.Fields(), rows, aside, nil
}

// TestParquetWriters: what other programs wrote is read as what they were given (testdata/parquet/make.py).
func TestParquetWriters(t *testing.T) {
	text, err := os.ReadFile("testdata/parquet/expected.txt")
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	head := strings.Split(lines[0], "|")
	files, _ := filepath.Glob("testdata/parquet/*.parquet")
	if len(files) != 11 {
		t.Fatalf("%d files", len(files))
	}
	for _, file := range files {
		if strings.HasSuffix(file, "nested.parquet") {
			continue
		}
		if strings.HasSuffix(file, "lz4.parquet") { // the library that reads pages may give wrong values then
			if _, _, _, err := readParquet(file, time.UTC); err == nil ||
				!strings.Contains(err.Error(), "compressed with LZ4") {
				t.Error(err)
			}
			continue
		}
		fields, rows, aside, err := readParquet(file, time.UTC)
		if err != nil || len(aside) > 0 || len(rows) != len(lines)-1 {
			t.Errorf("%s: %d rows, %v, %v", file, len(rows), aside, err)
			continue
		}
		if len(fields) != 16 && !strings.Contains(file, "fastparquet") {
			t.Errorf("%s has only %v", file, fields)
		}
		reader := parse.NewReader(time.UTC)
		for k, f := range fields {
			at := slices.Index(head, f.Name)
			if at < 0 {
				continue // the index that a data frame has
			}
			want := column.Column{Type: f.Type}
			want.Resize(1)
			for i, line := range lines[1:] {
				v := strings.Split(line, "|")[at]
				if v == "∅" || v == "" && rows[i][k] == "∅" {
					v = "∅"
				} else if err := reader.Set(&want, 0, v); err != nil {
					t.Fatalf("%s: %s %s is not of type %s: %v", file, f.Name, v, f.Type, err)
				} else {
					v = want.Value(0)
				}
				if rows[i][k] != v {
					t.Errorf("%s: %s of row %d is %s, want %s (%s)", file, f.Name, i+1, rows[i][k], v, f.Type)
					break
				}
			}
		}
	}
}

// TestParquetTypes: a declared type overrides, and what does not fit it is set aside; fields of groups are found by
// their paths; lists and groups are told.
func TestParquetTypes(t *testing.T) {
	file := "testdata/parquet/pyarrow-snappy-dictionary.parquet"
	_, rows, aside, err := readParquet(
		file,
		time.UTC,
		asColumn("as_text", "text", "toll"),
		asColumn("n", "decimal(12,3)", "no"),
		asColumn("whole", "integer", "draught"),
		asColumn(
			"few",
			"decimal(3,1)",
			"small",
		),
		asColumn("d", "date", "at"),
		asColumn("money", "decimal(5,2)", "toll"),
	)
	if err != nil || len(rows) != 300 {
		t.Fatal(len(rows), err)
	}
	if got := strings.Join(rows[0], " "); got != "-39.63 1.000 ∅ -49.0 ∅ -39.63" {
		t.Errorf("the first row is %s", got)
	}
	if got := aside[0]; got != "1 whole is not an integer 0.125" {
		t.Errorf("set aside first: %s", got)
	}
	if len(aside) != 526 { // 226 draughts that aren't whole, and 300 times that no day is
		t.Errorf("%d set aside: %v", len(aside), aside[len(aside)-1])
	}
	nested := "testdata/parquet/pyarrow-nested.parquet"
	_, rows, aside, err = readParquet(
		nested,
		nil,
		asColumn("no", "integer", ""),
		asColumn("code", "text", "cargo.code"),
		asColumn("tons", "integer", "cargo.tons"),
	)
	if err != nil || len(aside) > 0 || strings.Join(rows[0], " ") != "1 C1 1" ||
		strings.Join(rows[3], " ") != "4 C4 ∅" ||
		strings.Join(rows[9], " ") != "10 ∅ ∅" {
		t.Errorf("nested: %v %v %v", rows[:10], aside, err)
	}
	for path, want := range map[string]string{
		"locks":    "column locks is a list or map, not one value",
		"cargo":    "column cargo is a group; header names a field of it, such as cargo.code",
		"cargo.co": "the file has no column cargo.co (did you mean cargo.code?)",
	} {
		if _, _, _, err := readParquet(nested, nil, asColumn("x", "text", path)); err == nil ||
			!strings.HasSuffix(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	_, _, aside, err = readParquet(file, nil, asColumn("instant", "timestamp", ""))
	if err != nil || len(aside) != 300 || !strings.Contains(aside[0], "names no time_zone") {
		t.Errorf("instants without a zone: %v %v", err, aside[:1])
	}
	zone, _ := time.LoadLocation("Europe/Paris")
	_, rows, _, err = readParquet(file, zone, asColumn("instant", "timestamp", ""), asColumn("at", "timestamp", ""))
	if err != nil || strings.Join(rows[0], " ") != "2025-01-01 06:00:00.000001 2025-01-01 05:00:00.000001" {
		t.Errorf("instants: %v %v", rows[0], err)
	}
}

// TestParquetTimes: a time outside of the years 1 to 9999 is set aside, as it stands there or once it is in the
// model's zone.
func TestParquetTimes(t *testing.T) {
	type row struct {
		Instant int64            `parquet:"instant,timestamp(microsecond)"`
		Old     deprecated.Int96 `parquet:"old"`
	}
	at := func(y int, m time.Month, d, h int) int64 {
		return time.Date(y, m, d, h, 30, 0, 0, time.UTC).UnixMicro()
	}
	julian := func(day uint32) deprecated.Int96 { return deprecated.Int96{0, 0, day} }
	rows := []row{
		{at(9999, 12, 31, 23), julian(2_440_588)}, // the year 10000, an hour east
		{at(9999, 12, 31, 22), julian(5_373_484)},
		{at(0, 12, 31, 23), julian(1_721_426)}, // the year 1, an hour east
		{at(0, 12, 31, 22), julian(0)},
		{math.MaxInt64, julian(1 << 31)},
		{math.MinInt64, julian(5_373_485)},
	}
	file := filepath.Join(t.TempDir(), "x.parquet")
	if err := parquet.WriteFile(file, rows); err != nil {
		t.Fatal(err)
	}
	zone := time.FixedZone("east", 3600)
	_, read, aside, err := readParquet(
		file,
		zone,
		asColumn("instant", "timestamp", ""),
		asColumn("old", "timestamp", ""),
	)
	want := "[[∅ 1970-01-01 01:00:00] [9999-12-31 23:30:00 9999-12-31 01:00:00] [0001-01-01 00:30:00 0001-01-01 01:00:00] [∅ ∅] [∅ ∅] [∅ ∅]]"
	if got := fmt.Sprint(read); err != nil || got != want || len(aside) != 7 {
		t.Errorf("%v\n%s\nwant\n%s\nset aside: %q", err, got, want, aside)
	}
}

// TestParquetDamaged: a file that is cut off, damaged or lies about itself is an error or other values, never a panic
// or a flood of memory.
func TestParquetDamaged(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "x.parquet")
	try := func(data []byte) (string, int) {
		t.Helper()
		if err := os.WriteFile(file, data, 0o644); err != nil {
			t.Fatal(err)
		}
		_, rows, _, err := readParquet(file, time.UTC)
		if err != nil {
			return err.Error(), len(rows)
		}
		return "", len(rows)
	}
	for _, name := range []string{"duckdb-v2-zstd", "fastparquet-gzip", "pyarrow-nested"} {
		whole, err := os.ReadFile("testdata/parquet/" + name + ".parquet")
		if err != nil {
			t.Fatal(err)
		}
		for n := 0; n < len(whole); n += 1 + len(whole)/97 {
			if message, _ := try(whole[:n]); message == "" {
				t.Errorf("%s: nothing is said about a file cut off at %d of %d", name, n, len(whole))
			}
		}
		for n := 0; n < len(whole); n += 1 + len(whole)/397 {
			broken := slices.Clone(whole)
			broken[n] ^= 0x5a
			try(broken)
		}
		lying := slices.Clone(whole)
		binary.LittleEndian.PutUint32(lying[len(lying)-8:], 0x7fffffff)
		if message, _ := try(lying); !strings.Contains(message, "footer is said to have 2147483647 bytes") {
			t.Errorf("%s: a lying footer: %s", name, message)
		}
	}
	for text, want := range map[string]string{
		"": "too short", "PAR1PAR1": "too short", "no,name\n1,x\n2,y\n": "this is not a Parquet file", "PAR1\x00\x00\x00\x00\x00\x00\x00\x00PAR1": "damaged",
		"PARE\x00\x00\x00\x00\x00\x00\x00\x00PARE": "encrypted",
	} {
		if message, _ := try([]byte(text)); !strings.Contains(message, want) {
			t.Errorf("%q: %s", text, message)
		}
	}
}

func FuzzParquet(f *testing.F) {
	for _, name := range []string{"duckdb-v2-zstd", "fastparquet-gzip", "pyarrow-nested", "pyarrow-delta-brotli"} {
		whole, err := os.ReadFile("testdata/parquet/" + name + ".parquet")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(whole)
	}
	file := filepath.Join(f.TempDir(), "x.parquet")
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(file, data, 0o644); err != nil {
			t.Fatal(err)
		}
		readParquet(file, time.UTC)
	})
}

// TestParquetText: what is no UTF-8 is set aside, even where two values together would be.
func TestParquetText(t *testing.T) {
	type row struct {
		A string `parquet:"a"`
		B string `parquet:"b,dict"`
	}
	file := filepath.Join(t.TempDir(), "x.parquet")
	if err := parquet.WriteFile(file, []row{{"x\xc3", "x\xc3"}, {"\xa4y", "\xa4y"}, {"Zoë", "Zoë"}, {"z\x00", "z\x00"}, {"", ""}}); err != nil {
		t.Fatal(err)
	}
	_, rows, aside, err := readParquet(file, nil, asColumn("a", "text", ""), asColumn("b", "text", ""))
	if err != nil || len(rows) != 5 || len(aside) != 6 || strings.Join(rows[2], " ") != "Zoë Zoë" {
		t.Errorf("%v %v %v", rows, aside, err)
	}
}

// TestBigEndian: decimals in two's complement of any length, against math/big.
func TestBigEndian(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for n := range 20_000 {
		size := 1 + r.IntN(20)
		b := make([]byte, size)
		for i := range b {
			if b[i] = byte(r.Uint32()); i < size-1-n%16 {
				b[i] = byte(-(n / 16 % 2)) // leading signs
			}
		}
		want := new(big.Int).SetBytes(b)
		if b[0]&0x80 != 0 {
			want.Sub(want, new(big.Int).Lsh(big.NewInt(1), uint(8*size)))
		}
		for _, precision := range []uint8{18, 38} {
			c := column.Column{Type: column.Type{Kind: column.Decimal, Precision: precision}}
			c.Resize(1)
			err := bigEndian(&c, 0, b)
			fits := new(
				big.Int,
			).Abs(want).
				Cmp(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(precision)), nil)) <
				0
			if fits != (err == nil) || fits && c.Value(0) != want.String() {
				t.Fatalf("%x: %s, %v; want %s", b, c.Value(0), err, want)
			}
		}
	}
}
