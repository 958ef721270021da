// Package source reads what a source reads: files, or a table or query of a database, and yields their rows as
// typed columns.
//
// Text files are CSV as RFC 4180 has it, read by encoding/csv: comma, double quotes, quotes doubled inside
// quotes, line breaks allowed there (and read as one newline, however they are written), LF or CRLF, a
// byte order mark allowed, empty lines passed over, a header first. An empty field is null, quoted or
// not. Columns are found by their name in each file's header. Files may be compressed with gzip or zstd, and in
// another encoding than UTF-8 where the model says so. Or they are JSON objects, a line each, whose columns are found
// by their paths. Parquet files, iCalendar files and databases have types of their own.
//
// A row that has too few or too many fields, or a value that does not fit its type, is set aside with its
// reason. What cannot be read at all stops the reading with its place.
package source

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// Inputs is where the sources of a model are read: for a run, so that what several steps read is the same for all
// of them. Any number of goroutines may use it.
type Inputs struct {
	Model   *star.Model
	Root    *os.Root // the model's folder
	Piece   int      // bytes of a file that are taken at a time; 0 is [PieceSize]
	Workers int      // goroutines that read; 0 is one for each core
	Memory  int64    // bytes that all may take together, about; 0 means any number
	Places  bool     // note where the rows stand that others are joined with
	Anew    bool     // keep nothing: read everything whenever it is asked for, as a proof must

	Days *Days // of calendars that grow, as they stand; nil for what they have before the first load

	Star Star // what sources read that are made of dimensions and facts of the model; nil before the first load

	kept      kept
	holds     atomic.Pointer[held]
	delivered delivered
	skip      map[FileOf]bool // files that are passed over
	left      []Left          // rows of files that are not there any more

	came     func(name string) int64 // when files came
	arriving []*star.Source          // sources whose files that came first are read first; others are read in the order of their paths

	given   map[*star.Source]Given // what somebody else reads
	marks   map[FileOf]star.Value  // tables and queries of which only newer rows are read
	reached reached
}

// Days is the days that calendars have that grow. Any number of goroutines may use it.
type Days struct{ of sync.Map }

// Set says which days a calendar has, both included.
func (d *Days) Set(c *star.Calendar, from, to int64) { d.of.Store(c, c.Range(from, to)) }

// DaysOf returns a calendar with the days that it has.
func (in *Inputs) DaysOf(c *star.Calendar) *star.Calendar {
	if in.Days == nil {
		return c
	}
	if there, ok := in.Days.of.Load(c); ok {
		return there.(*star.Calendar)
	}
	return c
}

// Star is the star of the model, as somebody sees it.
type Star interface {
	// Open returns the rows of a dimension or a fact, of which columns are wanted.
	Open(of *star.Standing, want func(column string) bool) Input
	// Sums returns the groups of a source that stand in the star already, and which of their columns is which of the
	// group's, where only rows that came since are read; nil if all are.
	Sums(of *star.Source) (Input, map[string]string)
}

// Input is the rows of what a source reads, opened.
type Input interface {
	column.Source
	// Samples yields some rows of each file: the first, and where the file has no types of its own, from its middle
	// and end.
	Samples(context.Context) iter.Seq2[column.Piece, error]
	// Names lists what is read in order: files, or a table.
	Names() []string
	// Size is the bytes of all files, 0 if not known.
	Size() int64
	// Row fills b with the rows around a line of a file and returns the row that begins there, or -1 if none does.
	Row(ctx context.Context, name string, line int64, b *column.Batch) (int, error)
}

// Open finds what s reads, and checks that it has the columns that s declares, of which the rows have those that want
// names. bind gives the values of a query's parameters. The error is a [diag.List] where it has a place.
func (in *Inputs) Open(
	ctx context.Context,
	s *star.Source,
	bind func(name string) (star.Value, error),
	want func(column string) bool,
) (Input, error) {
	switch {
	case s.Database != nil:
		return in.openTable(ctx, s, bind, want)
	case s.Format == star.Parquet:
		return in.openParquet(s, want)
	case s.Format == star.ICalendar:
		return in.openCalendars(s, want)
	}
	return in.openText(s, want)
}

// Files is the text files of a source: they are known and their headers fit.
type Files struct {
	files
	in     *Inputs
	of     *star.Source
	dir    string // below which they are
	fields []column.Field
	zone   *time.Location
	own    []*star.Column // of each field: the column, if its values are of another zone, or written otherwise
	judged []*star.Column // the last fields: the text of columns, whatever their types
	csv    star.CSV
	lines  bool             // the files are objects, a line of JSON each
	nested bool             // objects and lists may stand in text columns, as JSON
	paths  []jsonPath       // of each field
	named  map[string][]int // fields by the first name of their path
	each   *elements        // of JSON, whose lists have the rows; nil if the objects are
	piece  int              // bytes of a file that are taken at a time
	unfit  []*star.Unfit    // of each field, those that have the text of a column aside
	unread []int            // of each field, the one that says that a value could not be read; -1 if none does
	doubts doubts

	corrected *corrections // nil if there are none
	whole     atomic.Bool  // all of the files have been read
}

// PieceSize is how many bytes of a file are cut off at a time, if nobody says otherwise.
const PieceSize = 512 << 10

type file struct {
	path  string // below dir, with slashes
	name  string // for people and the ledger: as seen from the model's folder
	width int    // fields of the header
	at    []int  // where each field of the source stands in a record
	info  fs.FileInfo
	head  []string // the first record
	line  int      // where it begins
	left  *Left    // the rows, if it is not there any more
}

// files are files in the order in which they are read.
type files []*file

// Names lists them.
func (f files) Names() []string {
	names := make([]string, len(f))
	for i, file := range f {
		names[i] = file.name
	}
	return names
}

// Size is the bytes of all of them.
func (f files) Size() int64 {
	var sum int64
	for _, file := range f {
		if file.info != nil {
			sum += file.info.Size()
		}
	}
	return sum
}

// locate finds the files of s below the model's folder, or the folder that s says they are within, in the byte order
// of their paths.
func (in *Inputs) locate(s *star.Source) (dir string, found files, errs diag.List) {
	root := in.Root
	dir = root.Name()
	if s.Within.Text != "" {
		if dir = s.Within.Text; !filepath.IsAbs(dir) {
			dir = filepath.Join(root.Name(), dir)
		}
		var err error
		if root, err = os.OpenRoot(dir); err != nil {
			return dir, nil, diag.List{
				{
					At:      s.Within.At,
					Subject: "sources." + s.Text + ".within",
					Message: "there is no folder " + s.Within.Text,
				},
			}
		}
		defer root.Close()
	}
	seen := map[string]bool{}
	for _, pattern := range s.Read {
		names, err := find(root, pattern.Text)
		var none *noFileError
		if errors.As(err, &none) && in.mayLack(s) {
			continue
		}
		if err != nil {
			errs = append(
				errs,
				&diag.Error{At: pattern.At, Subject: "sources." + s.Text + ".read", Message: err.Error()},
			)
		}
		for _, name := range names {
			full := path.Join(filepath.ToSlash(s.Within.Text), name)
			if !seen[name] && !in.skip[FileOf{s.Text, full}] {
				seen[name] = true
				found = append(found, &file{path: name, name: full})
			}
		}
	}
	found = append(in.finished(s, dir, found), in.leftOf(s)...)
	slices.SortFunc(found, func(a, b *file) int {
		return cmp.Or(cmp.Compare(in.place(s, a.name), in.place(s, b.name)), strings.Compare(a.path, b.path))
	})
	return dir, found, errs
}

// noFileError says that a pattern names no file.
type noFileError struct{ pattern, dir string }

func (e *noFileError) Error() string {
	return fmt.Sprintf("no file matches %s in %s", e.pattern, e.dir)
}

// mayLack reports whether a source may have no files: what has not come is passed over then. Of a list, its rows tell.
func (in *Inputs) mayLack(s *star.Source) bool {
	return s.PassOver && s.DrivenBy == nil && !s.TypesItself()
}

// place returns when a file of a source came; 0 if that does not matter.
func (in *Inputs) place(s *star.Source, name string) int64 {
	if !slices.Contains(in.arriving, s) {
		return 0
	}
	return in.came(name)
}

// openText opens text files and checks their headers.
func (in *Inputs) openText(s *star.Source, want func(column string) bool) (*Files, error) {
	f := &Files{
		in:     in,
		of:     s,
		zone:   in.Model.Zone,
		csv:    s.CSV,
		lines:  s.HasObjects(),
		nested: s.Nested,
		piece:  cmp.Or(in.Piece, PieceSize),
	}
	for _, c := range s.Columns {
		if marked := c.Unfit.Unread && want(star.UnreadColumn(c.Text)); want(c.Text) || marked {
			f.fields = append(f.fields, column.Field{Name: c.Text, Type: c.Type})
			f.paths = append(f.paths, newPath(c.InFile()))
			f.own = append(f.own, nil)
			f.unfit, f.unread = append(f.unfit, &c.Unfit), append(f.unread, -1)
			if c.Zone != nil || c.WrittenIn != nil || c.Layouts != nil {
				f.own[len(f.own)-1] = &c
			}
		}
	}
	for k, c := range f.unfit {
		if name := star.UnreadColumn(f.fields[k].Name); c.Unread && want(name) {
			f.unread[k] = len(f.fields)
			f.fields = append(f.fields, column.Field{Name: name, Type: column.Type{Kind: column.Boolean}})
			f.paths, f.own = append(f.paths, jsonPath{}), append(f.own, nil)
		}
	}
	for _, c := range s.Judged() {
		f.fields = append(f.fields, column.Field{Name: AsText(c.Text), Type: column.Type{Kind: column.Text}})
		f.paths = append(f.paths, newPath(c.InFile()))
		f.own, f.judged = append(f.own, nil), append(f.judged, c)
	}
	f.named = map[string][]int{}
	for k, path := range f.paths {
		if !f.isMark(k) {
			f.named[path.name] = append(f.named[path.name], k)
		}
	}
	f.each = newElements(s, f.fields, f.judged)
	var errs diag.List
	f.dir, f.files, errs = in.locate(s)
	fixed, wrong := f.readCorrections()
	f.corrected, errs = fixed, append(errs, wrong...)
	for _, file := range f.files {
		look := f.header
		if f.lines {
			look = f.objects
		}
		if err := look(file, s); err != nil && !in.passOver(s, file, err) {
			errs = append(errs, err...)
		}
	}
	f.files = slices.DeleteFunc(f.files, func(file *file) bool { return in.isHeld(s, file) })
	return f, errs.Err()
}

// AsText is the name of the field that has the text of a column, by which rows are left out.
func AsText(name string) string { return "the text of " + name }

// isText reports whether field k is the text of a column.
func (f *Files) isText(k int) bool { return k >= len(f.fields)-len(f.judged) }

// isMark reports whether field k says of another one that its value could not be read.
func (f *Files) isMark(k int) bool { return k >= len(f.unfit) && !f.isText(k) }

// begin makes the fields of row n that say what could not be read say that there was nothing such.
func (f *Files) begin(b *column.Batch, n int) {
	for k := len(f.unfit); f.isMark(k); k++ {
		b.Cols[k].Null[n], b.Cols[k].Int[n] = false, 0
	}
}

// readers returns what reads the values of each field. They are for one goroutine.
func (f *Files) readers() []*parse.Reader {
	styled := func(zone *time.Location, own parse.Layouts) *parse.Reader {
		r, style := parse.NewReader(zone), f.csv.Style
		if own != nil {
			style.Date, style.Timestamp, style.Time = own, own, own
		}
		if !style.IsUsual() {
			r.Styled(&style)
		}
		return r
	}
	common := styled(f.zone, nil)
	list := make([]*parse.Reader, len(f.fields))
	for k := range list {
		list[k] = common
		if c := f.own[k]; c != nil {
			list[k] = styled(cmp.Or(c.WrittenIn, f.zone), c.Layouts).Showing(cmp.Or(c.Zone, f.zone))
		}
	}
	return list
}

// typedReaders returns what reads the values of cells that are written as this program writes them.
func (f *Files) typedReaders() []*parse.Reader {
	list := make([]*parse.Reader, len(f.fields))
	for k := range list {
		if list[k] = parse.NewReader(f.zone); f.own[k] != nil {
			list[k] = parse.NewReader(cmp.Or(f.own[k].WrittenIn, f.zone)).Showing(cmp.Or(f.own[k].Zone, f.zone))
		}
	}
	return list
}

// AsRead returns a source of the same files, table or query that yields their rows as they stand there: all columns
// that the files have in common, by their names or else positions, with nothing derived and nothing set aside but
// rows of too few or too many fields. What has no types of its own is text.
func (in *Inputs) AsRead(
	ctx context.Context,
	s *star.Source,
	bind func(name string) (star.Value, error),
) (*star.Source, error) {
	plain := &star.Source{Name: s.Name, Files: s.Files, Selection: s.Selection}
	if s.TypesItself() {
		columns, err := in.Columns(ctx, plain, bind)
		plain.Columns = slices.DeleteFunc(columns, func(c star.Column) bool { return c.Type.Kind == column.Null })
		return plain, err
	}
	if s.Format == star.Fixed {
		for _, c := range s.Columns {
			plain.Columns = append(plain.Columns, star.Column{Name: c.Name, Type: column.Type{Kind: column.Text}, Chars: c.Chars})
		}
		return plain, nil
	}
	plain.Nested, plain.Each, plain.CSV.Nulls, plain.CSV.Style = true, nil, nil, parse.Style{}
	files, err := in.openText(plain, func(string) bool { return false })
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for n, file := range files.files {
		if files.lines { // objects may have more or fewer keys
			names, err := files.keys(file)
			if err != nil {
				return nil, err
			}
			for _, name := range names {
				if !seen[name] {
					seen[name] = true
					path := strings.NewReplacer(`\`, `\\`, `.`, `\.`).Replace(name)
					plain.Columns = append(
						plain.Columns,
						star.Column{Name: star.Name{Text: name}, Type: column.Type{Kind: column.Text}, Header: path},
					)
				}
			}
			continue
		}
		names, errs := files.first(file, failing(file, s))
		if errs != nil {
			return nil, errs
		}
		var columns []star.Column
		for i, name := range names {
			c := star.Column{Name: star.Name{Text: name}, Type: column.Type{Kind: column.Text}}
			if s.CSV.Headless || slices.Index(names, name) != i {
				c = star.Column{Name: star.Name{Text: fmt.Sprint("column ", i+1)}, Type: c.Type, Position: i + 1}
			}
			if n == 0 || slices.ContainsFunc(plain.Columns, func(p star.Column) bool { return p.Text == c.Text }) {
				columns = append(columns, c)
			}
		}
		plain.Columns = columns
	}
	return plain, nil
}

// Columns looks at a source that types its columns itself for all columns that it has. Those whose type is none of
// ours have the type Null.
func (in *Inputs) Columns(
	ctx context.Context,
	s *star.Source,
	bind func(name string) (star.Value, error),
) ([]star.Column, error) {
	if s.Database != nil {
		return in.tableColumns(ctx, s, bind)
	}
	if s.Format == star.ICalendar {
		var columns []star.Column
		for _, f := range calendarColumns {
			columns = append(columns, star.Column{Name: star.Name{Text: f.Name}, Type: f.Type})
		}
		return columns, nil
	}
	return in.parquetColumns(s)
}

// find lists the files that a pattern names. Nothing outside the root can be named.
func find(root *os.Root, pattern string) ([]string, error) {
	clean := path.Clean(filepath.ToSlash(pattern))
	if path.IsAbs(clean) || filepath.IsAbs(pattern) || clean == ".." || strings.HasPrefix(clean, "../") {
		return nil, fmt.Errorf("%s is outside the model's folder (within names another folder)", pattern)
	}
	names, err := fs.Glob(root.FS(), clean)
	if err != nil {
		return nil, fmt.Errorf("%s is not a pattern: %v", pattern, err)
	}
	if _, err := root.Lstat(clean); err == nil && len(names) == 0 {
		return []string{clean}, nil // it is there; opening it will say what is wrong
	}
	if len(names) == 0 {
		if names, err = findInArchives(root, clean); err != nil {
			return nil, err
		}
	}
	if len(names) == 0 {
		return nil, &noFileError{pattern, root.Name()}
	}
	return names, nil
}

// Fields lists the columns of the rows.
func (f *Files) Fields() []column.Field { return f.fields }

// Row fills b with the rows around a line of a file and returns the row that begins there, or -1 if none does.
func (f *Files) Row(ctx context.Context, name string, line int64, b *column.Batch) (int, error) {
	for _, file := range f.files {
		if file.name != name {
			continue
		}
		for p, err := range f.cut(ctx, file) {
			if err != nil {
				return -1, err
			}
			if line > p.line+int64(bytes.Count(p.data, []byte{'\n'}))+1 {
				continue
			}
			if err := p.Fill(b); err != nil {
				return -1, err
			}
			if i := slices.Index(b.From.Line, line); i >= 0 {
				return i, nil
			}
		}
	}
	return -1, nil
}

// Pieces yields the files' rows.
func (f *Files) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for _, file := range f.files {
			for p, err := range f.pieces(ctx, file) {
				if err != nil {
					yield(nil, err)
					return
				}
				if !yield(p, nil) {
					return
				}
			}
		}
		f.whole.Store(true)
	}
}

// pieces yields what a file has, or what is left of it.
func (f *Files) pieces(ctx context.Context, file *file) iter.Seq2[*piece, error] {
	if file.left != nil {
		return f.remains(file)
	}
	opened := filepath.Join(f.dir, file.path)
	size := func(p *piece) int64 { return int64(len(p.data)) }
	return once(f.in, f.of, opened, f.cut(ctx, file), size, func(p *piece) *piece {
		return &piece{of: f, file: file, data: p.data, line: p.line, tooLong: p.tooLong, bytes: p.bytes}
	})
}

// Samples yields rows from the beginning, the middle and the end of each file, as many as three pieces have; the
// piece from the middle says that it has all the bytes for which it stands.
func (f *Files) Samples(ctx context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for _, file := range f.files {
			var middle, last *piece
			first, so, all := true, int64(0), file.info.Size()
			for p, err := range f.cut(ctx, file) {
				if err != nil {
					yield(nil, err)
					return
				}
				if so += p.bytes; first {
					if first = false; !yield(p, nil) {
						return
					}
					all -= p.bytes
				} else if last = p; middle == nil && so >= file.info.Size()/2 {
					middle = p
				}
			}
			if middle != nil && middle != last {
				if middle.bytes = all - last.bytes; !yield(middle, nil) {
					return
				}
			}
			if last != nil && !yield(last, nil) {
				return
			}
		}
	}
}

// reason says in plain words why a file cannot be opened or read.
func reason(err error) string {
	var pathErr *fs.PathError
	if errors.As(err, &pathErr) {
		err = pathErr.Err
	}
	var header *headerError
	var document *documentError
	switch {
	case errors.Is(err, errNoFile), errors.Is(err, errChanged), errors.As(err, &header), errors.As(err, &document):
		return err.Error()
	case errors.Is(err, fs.ErrPermission):
		return "the file cannot be read: no permission"
	case errors.Is(err, fs.ErrNotExist):
		return "the file is gone"
	case strings.Contains(err.Error(), "escapes"):
		return "the file is a link that leads out of the folder of the files"
	}
	return "the file cannot be read: " + err.Error()
}
