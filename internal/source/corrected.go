package source

import (
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/tidwall/gjson"

	"ironmonger/internal/diag"
	"ironmonger/internal/star"
)

// Rows that were set aside can be corrected: a file of corrections has the columns of the source's files and, behind
// them, those that say which row is meant and why it was set aside. A corrected row takes the place of the row wherever
// that is read.

// CorrectionColumns are the columns behind those of the source in a file of corrections.
var CorrectionColumns = []string{"of file", "of line", "of row", "set aside because"}

// RowMark stands for a row as it stands in its file, so that a correction is of that row and no other.
func RowMark(raw string) string {
	sum := sha256.Sum256([]byte(raw))
	return hex.EncodeToString(sum[:8])
}

// correction is a corrected row.
type correction struct {
	mark   string
	fields []string // of a record
	object []byte   // or an object of JSON
	at     diag.Place
	used   atomic.Bool
}

// corrections are the corrected rows of a source, by file and line.
type corrections struct {
	of map[string]map[int64]*correction
}

// correctionFiles finds the files of corrections. There need not be any.
func (in *Inputs) correctionFiles(s *star.Source) ([]string, error) {
	if s.Corrections.Text == "" {
		return nil, nil
	}
	names, err := find(in.Root, s.Corrections.Text)
	var none *noFileError
	if errors.As(err, &none) {
		return nil, nil
	}
	if err != nil {
		err = diag.List{{At: s.Corrections.At, Subject: "sources." + s.Text + ".corrections", Message: err.Error()}}
	}
	return names, err
}

// Corrections returns how the files of corrections of a source are found, as [Inputs.States] does.
func (in *Inputs) Corrections(s *star.Source) ([]State, error) {
	names, err := in.correctionFiles(s)
	var states []State
	for _, name := range names {
		info, serr := in.Root.Stat(name)
		if serr != nil {
			return nil, serr
		}
		path := filepath.Join(in.Root.Name(), name)
		states = append(states, State{
			FileOf: FileOf{s.Text, name}, Path: path, Size: info.Size(), Modified: info.ModTime(),
			Changed: fmt.Sprint(info.ModTime().UnixNano(), changeOf(info)),
		})
	}
	return states, err
}

// readCorrections reads the corrections of a source; nil if there are none.
func (f *Files) readCorrections() (*corrections, diag.List) {
	names, err := f.in.correctionFiles(f.of)
	var list diag.List
	if errors.As(err, &list) || len(names) == 0 {
		return nil, list
	}
	c := &corrections{of: map[string]map[int64]*correction{}}
	var errs diag.List
	for _, name := range names {
		t, err := openContent(f.in.Root.Name(), name)
		if err == nil {
			err = f.in.known(filepath.Join(f.in.Root.Name(), t.path), t.info)
			if err == nil {
				err = t.layers(f.csv.Encoding)
			}
			if err == nil && f.lines {
				err = c.readObjects(t, name)
			} else if err == nil {
				err = f.readRecords(c, t, name)
			}
			t.Close()
		}
		var one *diag.Error
		if errors.As(err, &one) {
			one.Subject = "source " + f.of.Text
			errs = append(errs, one)
		} else if err != nil {
			errs = append(errs, &diag.Error{At: diag.Place{File: name}, Subject: "source " + f.of.Text, Message: reason(err)})
		}
	}
	return c, errs
}

// add adds a correction; values are those of the columns behind the source's.
func (c *corrections) add(x *correction, values []string) error {
	line, err := strconv.ParseInt(values[1], 10, 64)
	switch {
	case values[0] == "" || err != nil || line < 1 || len(values[2]) != 16:
		return &diag.Error{At: x.at, Message: fmt.Sprintf("it does not say which row it corrects (%s)", strings.Join(CorrectionColumns[:3], ", "))}
	case c.of[values[0]] == nil:
		c.of[values[0]] = map[int64]*correction{}
	case c.of[values[0]][line] != nil:
		return &diag.Error{At: x.at, Message: fmt.Sprintf("%s:%d is corrected at %s already", values[0], line, c.of[values[0]][line].at)}
	}
	x.mark = values[2]
	c.of[values[0]][line] = x
	return nil
}

// readRecords reads a file of records.
func (f *Files) readRecords(c *corrections, t *content, name string) error {
	rd := f.records(io.MultiReader(bytes.NewReader(nil), t))
	head, err := rd.Read()
	if err == io.EOF {
		return nil
	}
	if err != nil {
		return csvError(name, 0, err, nil)
	}
	for k := range head {
		head[k] = strings.TrimPrefix(f.field(head[k]), string(bom))
	}
	first := slices.Index(head, CorrectionColumns[0]) // a row may have other fields before it than the header
	for k, column := range CorrectionColumns[:3] {
		if first < 0 || first+k >= len(head) || head[first+k] != column {
			return &diag.Error{At: diag.Place{File: name, Line: 1}, Message: fmt.Sprintf("a file of corrections has the columns %s behind those of the source, as strays --to writes them", strings.Join(CorrectionColumns[:3], ", "))}
		}
	}
	for {
		record, err := rd.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return csvError(name, 0, err, nil)
		}
		line, _ := rd.FieldPos(0)
		x := &correction{at: diag.Place{File: name, Line: line}}
		values := make([]string, 3)
		if own := len(record) - (len(head) - first); own >= 0 {
			x.fields = record[:own]
			for k := range values {
				values[k] = f.field(record[own+k])
			}
		}
		if err := c.add(x, values); err != nil {
			return err
		}
	}
}

// readObjects reads a file of objects, a line each.
func (c *corrections) readObjects(t *content, name string) error {
	text, err := io.ReadAll(t)
	if err != nil {
		return err
	}
	number := 0
	for line := range bytes.Lines(bytes.TrimPrefix(text, bom)) {
		number++
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		x := &correction{at: diag.Place{File: name, Line: number}}
		if !gjson.ValidBytes(line) || line[0] != '{' {
			return &diag.Error{At: x.at, Message: "this is not an object of JSON"}
		}
		values, object := make([]string, 3), bytes.NewBufferString("{")
		gjson.ParseBytes(line).ForEach(func(key, value gjson.Result) bool {
			switch n := slices.Index(CorrectionColumns, key.Str); {
			case n < 0:
				if object.Len() > 1 {
					object.WriteByte(',')
				}
				object.WriteString(key.Raw + ":" + value.Raw)
			case n < 3:
				values[n] = value.String()
			}
			return true
		})
		object.WriteByte('}')
		x.object = object.Bytes()
		if err := c.add(x, values); err != nil {
			return err
		}
	}
	return nil
}

// at returns the correction of a row; nil if there is none.
func (c *corrections) at(rows map[int64]*correction, line int64, raw []byte) *correction {
	x := rows[line]
	if x == nil || x.mark != RowMark(strings.Trim(string(raw), "\r\n")) {
		return nil
	}
	x.used.Store(true)
	return x
}

// correctionNotes says which corrections are of no row of the files that were read.
func (f *Files) correctionNotes() []string {
	if f.corrected == nil {
		return nil
	}
	n, first := 0, diag.Place{}
	for _, file := range f.files {
		for _, x := range f.corrected.of[file.name] {
			if f.whole.Load() && !x.used.Load() {
				if n++; n == 1 || x.at.File+fmt.Sprintf("%9d", x.at.Line) < first.File+fmt.Sprintf("%9d", first.Line) {
					first = x.at
				}
			}
		}
	}
	if n == 0 {
		return nil
	}
	what := fmt.Sprintf("%d corrections are of no row, since these stand otherwise in their files now; the first is", n)
	if n == 1 {
		what = "a correction is of no row, since that stands otherwise in its file now:"
	}
	return []string{fmt.Sprintf("source %s: %s %s", f.of.Text, what, first)}
}

// WriteCorrection returns a row that was set aside as a line of a file of corrections, in UTF-8.
func WriteCorrection(s *star.Source, raw, file string, line int64, because string) string {
	extra := []string{file, strconv.FormatInt(line, 10), RowMark(raw), because}
	if s.HasObjects() {
		object := strings.TrimSuffix(strings.TrimSpace(raw), "}")
		for k, column := range CorrectionColumns {
			name, _ := json.Marshal(column)
			value, _ := json.Marshal(extra[k])
			if k > 0 || strings.TrimSpace(object) != "{" {
				object += ", "
			}
			object += string(name) + ": " + string(value)
		}
		return object + "}"
	}
	return raw + string(s.CSV.Separator) + recordOf(s, extra)
}

// CorrectionHead returns the first line of a file of corrections; "" if it has none.
func CorrectionHead(s *star.Source, head []string) string {
	if s.HasObjects() {
		return ""
	}
	head = slices.Clone(head)
	if s.CSV.Headless {
		for k := range head {
			head[k] = fmt.Sprint("column ", k+1)
		}
	}
	return recordOf(s, append(head, CorrectionColumns...))
}

// recordOf writes fields as the source's files are written.
func recordOf(s *star.Source, fields []string) string {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Comma = rune(s.CSV.Separator)
	w.Write(fields) // to memory
	w.Flush()
	text := strings.TrimSuffix(b.String(), "\n")
	if s.CSV.Quote != '"' {
		swap := []byte(text)
		swapped{bytes.NewReader([]byte(text)), s.CSV.Quote}.Read(swap)
		text = string(swap)
	}
	return text
}

// Encoded writes a text as the files of a source are written.
func Encoded(s *star.Source, text string) ([]byte, error) {
	if e := encodings[s.CSV.Encoding]; e != nil {
		return e.NewEncoder().Bytes([]byte(text))
	}
	return []byte(text), nil
}

// Head returns the first record of a file of a source as it stands; false if it cannot be read.
func (in *Inputs) Head(s *star.Source, name string) ([]string, bool) {
	f := &Files{in: in, of: s, csv: s.CSV, piece: PieceSize}
	var found files
	f.dir, found, _ = in.locate(s)
	for _, file := range found {
		if file.name != name {
			continue
		}
		head, errs := f.first(file, failing(file, s))
		return head, errs == nil && head != nil
	}
	return nil, false
}
