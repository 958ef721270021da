package source

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// parquetFiles is the Parquet files of a source. Only the columns wanted are read. Their rows have numbers in place of
// lines.
type parquetFiles struct {
	in     *Inputs
	dir    string
	fields []column.Field
	paths  []string // of each field
	zones  []*time.Location
	files
}

// parquetRows is how many rows of a file are taken at a time.
const parquetRows = 8192

// maxFooter bounds what a Parquet file says about itself.
const maxFooter = 64 << 20

// openedParquet is a file with the columns that are read of it.
type openedParquet struct {
	*parquet.File
	raw     *os.File
	columns []*parquetColumn
}

// guarded turns a panic over damaged data into an error.
func guarded(f func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	return f()
}

// openParquetFile opens a file that locate has found; the error speaks for itself.
func (in *Inputs) openParquetFile(dir string, file *file) (*openedParquet, error) {
	raw, err := os.OpenInRoot(dir, file.path)
	if err != nil {
		return nil, errors.New(reason(err))
	}
	x := &openedParquet{raw: raw}
	if file.info, err = raw.Stat(); err == nil && !file.info.Mode().IsRegular() {
		err = errNoFile
	}
	if err == nil {
		err = in.known(filepath.Join(dir, file.path), file.info)
	}
	if err != nil {
		raw.Close()
		return nil, errors.New(reason(err))
	}
	if err = footer(raw, file.info.Size()); err == nil {
		err = guarded(func() error {
			x.File, err = parquet.OpenFile(
				raw,
				file.info.Size(),
				parquet.SkipPageIndex(true),
				parquet.SkipBloomFilters(true),
				parquet.ReadBufferSize(64<<10),
			)
			return err
		})
		if err != nil {
			err = fmt.Errorf("the Parquet file is damaged: %w", err)
		}
	}
	if err != nil {
		raw.Close()
		return nil, err
	}
	return x, nil
}

// footer checks the ends of a file before anything is believed that stands there.
func footer(f *os.File, size int64) error {
	ends := make([]byte, 12)
	if size < 12 {
		return errors.New("this is not a Parquet file: it is too short")
	}
	f.ReadAt(ends[:4], 0)
	f.ReadAt(ends[4:], size-8)
	switch length := int64(binary.LittleEndian.Uint32(ends[4:8])); {
	case string(ends[:4]) == "PARE" || string(ends[8:]) == "PARE":
		return errors.New("the Parquet file is encrypted")
	case string(ends[:4]) != "PAR1":
		return errors.New("this is not a Parquet file")
	case string(ends[8:]) != "PAR1":
		return errors.New("the Parquet file is cut off: it does not end as one does")
	case length > size-12 || length > maxFooter:
		return fmt.Errorf("the Parquet file is damaged: its footer is said to have %d bytes", length)
	}
	return nil
}

// parquetColumns lists the columns of the first file. Those that are groups or lists are left out: a field of a group
// is asked for by its path.
func (in *Inputs) parquetColumns(s *star.Source) ([]star.Column, error) {
	dir, files, errs := in.locate(s)
	if err := errs.Err(); err != nil || len(files) == 0 {
		return nil, err
	}
	x, err := in.openParquetFile(dir, files[0])
	if err != nil {
		return nil, failing(files[0], s)(0, "%v", err)
	}
	defer x.raw.Close()
	byPath := map[string]bool{}
	for _, c := range s.Columns {
		byPath[c.InFile()] = true
	}
	var columns []star.Column
	err = guarded(func() error {
		for _, c := range leaves(x.Root(), nil) {
			name := strings.Join(c.Path(), ".")
			if len(c.Path()) > 1 && !byPath[name] {
				continue
			}
			t, _ := parquetType(c)
			columns = append(columns, star.Column{Name: star.Name{Text: name}, Type: t})
		}
		return nil
	})
	return columns, err
}

func leaves(c *parquet.Column, list []*parquet.Column) []*parquet.Column {
	if c.Leaf() {
		return append(list, c)
	}
	for _, sub := range c.Columns() {
		list = leaves(sub, list)
	}
	return list
}

// openParquet checks that all files have the columns that s takes.
func (in *Inputs) openParquet(s *star.Source, want func(string) bool) (*parquetFiles, error) {
	p := &parquetFiles{in: in}
	for _, c := range s.Columns {
		if want(c.Text) {
			p.fields = append(p.fields, column.Field{Name: c.Text, Type: c.Type})
			p.paths = append(p.paths, c.InFile())
			p.zones = append(p.zones, cmp.Or(c.Zone, in.Model.Zone))
		}
	}
	var errs diag.List
	p.dir, p.files, errs = in.locate(s)
	for _, file := range p.files {
		fail := failing(file, s)
		x, err := in.openParquetFile(p.dir, file)
		if err != nil {
			errs = append(errs, fail(0, "%v", err)...)
			continue
		}
		for _, c := range s.Columns {
			if err := guarded(func() error { _, err := x.find(c.InFile(), c.Type); return err }); err != nil {
				errs = append(errs, fail(0, "%v", err)...)
			}
		}
		x.raw.Close()
	}
	return p, errs.Err()
}

// find finds a column by its path, to be read as values of a type.
func (x *openedParquet) find(path string, as column.Type) (*parquetColumn, error) {
	all := leaves(x.Root(), nil)
	var names []string
	for _, c := range all {
		name := strings.Join(c.Path(), ".")
		if name != path {
			if c.MaxRepetitionLevel() > 0 && strings.HasPrefix(name, path+".") {
				return nil, fmt.Errorf("column %s is a list or map, not one value", path)
			} else if strings.HasPrefix(name, path+".") {
				return nil, fmt.Errorf("column %s is a group; header names a field of it, such as %s", path, name)
			}
			names = append(names, name)
			continue
		}
		if c.MaxRepetitionLevel() > 0 {
			return nil, fmt.Errorf("column %s is a list, not one value", path)
		}
		if codec := c.Compression().CompressionCodec(); codec == format.Lz4Raw || codec == format.Lz4 {
			return nil, fmt.Errorf(
				"column %s is compressed with LZ4, which is not read: write it with Snappy, Zstandard or gzip",
				path,
			)
		}
		t, utc := parquetType(c)
		if t.Kind == column.Null {
			if kind := c.Type().Kind(); as.Kind != column.Text || kind != parquet.ByteArray {
				return nil, fmt.Errorf("column %s is of the type %s, which is none of ours", path, c.Type())
			}
			t = as
		}
		return newParquetColumn(c, t, utc), nil
	}
	return nil, fmt.Errorf("the file has no column %s%s", path, diag.Suggest(path, names))
}

func (p *parquetFiles) Fields() []column.Field { return p.fields }

// Pieces yields the files' rows.
func (p *parquetFiles) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return p.pieces(ctx, false)
}

// Samples yields the first rows of each file.
func (p *parquetFiles) Samples(ctx context.Context) iter.Seq2[column.Piece, error] {
	return p.pieces(ctx, true)
}

func (p *parquetFiles) pieces(ctx context.Context, heads bool) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for _, file := range p.files {
			for piece, err := range p.cut(ctx, file) {
				if err != nil {
					yield(nil, err)
					return
				}
				if !yield(piece, nil) {
					return
				}
				if heads {
					break
				}
			}
		}
	}
}

// Row reads up to a row.
func (p *parquetFiles) Row(ctx context.Context, name string, line int64, b *column.Batch) (int, error) {
	for _, file := range p.files {
		if file.name != name {
			continue
		}
		for piece, err := range p.cut(ctx, file) {
			if err != nil {
				return -1, err
			}
			if line <= piece.first+int64(piece.n) {
				return int(line - piece.first - 1), piece.Fill(b)
			}
		}
	}
	return -1, nil
}

// cut reads the pages of a file's columns and cuts them to rows that belong together.
func (p *parquetFiles) cut(ctx context.Context, file *file) iter.Seq2[*parquetPiece, error] {
	return func(yield func(*parquetPiece, error) bool) {
		fail := func(err error) {
			yield(nil, &diag.Error{At: diag.Place{File: file.name}, Message: err.Error()})
		}
		x, err := p.in.openParquetFile(p.dir, file)
		if err != nil {
			fail(err)
			return
		}
		defer x.raw.Close()
		err = guarded(func() error {
			for k, f := range p.fields {
				c, err := x.find(p.paths[k], f.Type)
				if err != nil {
					return err
				}
				x.columns = append(x.columns, c)
			}
			return nil
		})
		if err != nil {
			fail(err)
			return
		}
		first := int64(0)
		groups := x.RowGroups()
		for g, group := range groups {
			readers := make([]*pageReader, len(x.columns))
			for k, c := range x.columns {
				readers[k] = &pageReader{pages: group.ColumnChunks()[c.at].Pages(), most: c.most}
			}
			closeAll := func() {
				for _, r := range readers {
					r.close()
				}
			}
			for rest := group.NumRows(); rest > 0; {
				n := int(min(rest, parquetRows))
				piece := &parquetPiece{
					of:      p,
					file:    file,
					columns: x.columns,
					first:   first,
					n:       n,
					bytes:   file.info.Size() * int64(n) / max(1, x.NumRows()),
				}
				err := ctx.Err()
				for k := 0; k < len(readers) && err == nil; k++ {
					var segments []segment
					err = guarded(func() error { segments, err = readers[k].take(n); return err })
					if err != nil {
						err = fmt.Errorf("column %s: the Parquet data is damaged: %w", p.paths[k], plainParquet(err))
					}
					piece.segments = append(piece.segments, segments)
				}
				if err != nil {
					closeAll()
					if ctx.Err() != nil {
						yield(nil, ctx.Err())
					} else {
						fail(err)
					}
					return
				}
				rest -= int64(n)
				first += int64(n)
				if last := rest == 0 && g == len(groups)-1; last &&
					changed(filepath.Join(p.dir, filepath.FromSlash(file.path)), x.raw, file.info) {
					closeAll()
					fail(errors.New("the file was changed while it was read"))
					return
				}
				if !yield(piece, nil) {
					closeAll()
					return
				}
			}
			closeAll()
		}
	}
}

func plainParquet(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return errors.New("it ends too early")
	}
	return err
}

// pageReader reads the pages of a column of a row group.
type pageReader struct {
	pages parquet.Pages
	most  byte // the definition level of a value; less is null

	page   parquet.Page
	dict   *dictionary
	row    int // taken of the page
	values int // of these, not null
}

// segment is some rows of a page. value is the first of the page's values that belongs to them.
type segment struct {
	page     parquet.Page
	dict     *dictionary
	from, to int
	value    int
}

// take returns the next n rows.
func (r *pageReader) take(n int) ([]segment, error) {
	var list []segment
	for n > 0 {
		if r.page == nil || r.row == int(r.page.NumValues()) {
			page, err := r.pages.ReadPage()
			if err != nil {
				return list, err
			}
			r.page, r.row, r.values = page, 0, 0
			if d := page.Dictionary(); d != nil && (r.dict == nil || r.dict.of != d) {
				r.dict = newDictionary(d)
			}
			continue
		}
		to := min(r.row+n, int(r.page.NumValues()))
		s := segment{page: r.page, from: r.row, to: to, value: r.values}
		if r.page.Dictionary() != nil {
			s.dict = r.dict
		}
		list = append(list, s)
		if levels := r.page.DefinitionLevels(); len(levels) > 0 {
			for _, l := range levels[s.from:to] {
				if l == r.most {
					r.values++
				}
			}
		} else {
			r.values += to - s.from
		}
		n -= to - r.row
		r.row = to
	}
	return list, nil
}

func (r *pageReader) close() { r.pages.Close() }

// parquetPiece is some rows of a file.
type parquetPiece struct {
	of       *parquetFiles
	file     *file
	columns  []*parquetColumn
	segments [][]segment // of each column
	first    int64       // rows before
	n        int
	bytes    int64
}

// Fill turns the values into typed rows.
func (p *parquetPiece) Fill(b *column.Batch) error {
	b.Reset(p.n)
	b.From = column.Origin{File: p.file.name, Line: slices.Grow(b.From.Line[:0], p.n), Bytes: p.bytes}
	for i := range p.n {
		b.From.Line = append(b.From.Line, p.first+int64(i)+1)
	}
	for k := range p.columns {
		row, reader := 0, parse.NewReader(p.of.zones[k])
		for _, s := range p.segments[k] {
			if err := p.fill(b, k, row, &s, reader); err != nil {
				return err
			}
			row += s.to - s.from
		}
	}
	b.From.Raw = p.raw
	return nil
}

func (p *parquetPiece) fill(b *column.Batch, k, row int, s *segment, reader *parse.Reader) error {
	err := guarded(func() error {
		p.columns[k].fill(b, k, row, s, p.of.fields[k], reader)
		return nil
	})
	if err != nil {
		return &diag.Error{
			At:      diag.Place{File: p.file.name},
			Message: fmt.Sprintf("column %s: the Parquet data is damaged: %v", p.of.paths[k], err),
		}
	}
	return nil
}

// raw writes a row as CSV. Batches change what they were filled with, so its values are read again.
func (p *parquetPiece) raw(i int) string {
	values := make([]string, len(p.columns))
	b := column.NewBatch(p.of.fields)
	b.Reset(1)
	for k, c := range p.columns {
		at := i
		for _, s := range p.segments[k] {
			if n := s.to - s.from; at >= n {
				at -= n
				continue
			}
			levels := s.page.DefinitionLevels()
			for r := s.from; r < s.from+at; r++ {
				if len(levels) == 0 || levels[r] == c.most {
					s.value++
				}
			}
			s.from, s.to = s.from+at, s.from+at+1
			if p.fill(b, k, 0, &s, parse.NewReader(p.of.zones[k])) == nil {
				values[k] = b.Cols[k].Value(0)
			}
			break
		}
	}
	return Record(values)
}
