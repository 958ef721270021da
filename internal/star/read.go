package star

import (
	"cmp"
	"os"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/diag"
)

// MaxFile is the most bytes a model file may have.
const MaxFile = 4 << 20

// Outside is what the reader of a model has to be told besides the file.
type Outside struct {
	Warehouse string                                      // the name of the warehouse; "" is that of the model
	Parameter func(name string) (value string, ok bool)   // values; where there is none, the default holds. May be nil
	Columns   func(m *Model, s *Source) ([]Column, error) // looks at a source that types its columns itself for what it has, all or those that s takes
}

// Read reads and checks the model in a file. The error is a [diag.List] of all that is wrong, or
// what kept the file from being read. The model that comes with a list is what could be made out.
func Read(file string, outside Outside) (*Model, error) {
	text, err := readFile(file)
	if err != nil {
		return nil, err
	}
	return Parse(file, text, outside)
}

func readFile(file string) ([]byte, error) {
	info, err := os.Stat(file)
	if err == nil && info.Size() > MaxFile {
		return nil, diag.List{{At: diag.Place{File: file}, Message: "the model is larger than 4 MiB"}}
	}
	if err != nil {
		return nil, err
	}
	return os.ReadFile(file)
}

// ReadWarehouse reads of a model only where its star stands: for what asks the ledger alone, so that nothing has to be
// given, and no source has to be there.
func ReadWarehouse(file, name string, parameter func(name string) (value string, ok bool)) (*Model, error) {
	text, err := readFile(file)
	if err != nil {
		return nil, err
	}
	r, m := readText(file, text)
	r.settle(m, parameter)
	r.place(m, name)
	w := &m.Warehouse
	r.errs = slices.DeleteFunc(r.errs, func(e *diag.Error) bool {
		if name, ok := strings.CutPrefix(e.Subject, "parameters."); ok &&
			strings.Contains(w.path.Text+w.connection.Text+w.schema.Text, "{"+name+"}") {
			return false
		}
		return e.Subject != "" && !strings.HasPrefix(e.Subject, "warehouse")
	})
	return m, r.errs.Err()
}

// ReadNames reads of a model only what it calls things, whatever is wrong with it.
func ReadNames(file string) (*Model, error) {
	text, err := readFile(file)
	if err != nil {
		return nil, err
	}
	_, m := readText(file, text)
	return m, nil
}

// ReadOrder reads of a model what the order of a load follows from: which keys point where, and by which rules. No
// source is looked at, and no parameter has to be given.
func ReadOrder(file string) (*Model, error) {
	text, err := readFile(file)
	if err != nil {
		return nil, err
	}
	r, m := readText(file, text)
	c := &checker{reader: r, model: m, seen: map[any]bool{}}
	keys := func(keys []*Key) {
		for _, k := range keys {
			w := k.dimension
			if w == nil {
				w = &k.Name
			}
			if k.Dimension = c.findDimension(w, k.subject); k.Dimension != nil {
				c.outcomes(k)
			}
		}
	}
	for _, s := range m.Sources {
		c.link(s)
	}
	for _, d := range m.Dimensions {
		keys(d.Keys)
		if d.Source = cmp.Or(d.text.calendar, d.text.clock); d.Source != nil {
			c.link(d.Source)
		} else {
			d.Source = c.sourceOf(d.text.from)
		}
		if !c.infers(d) {
			d.Calendar = d.Source.OnCalendar()
		}
	}
	for _, f := range m.Facts {
		keys(f.Keys)
		f.Source = c.sourceOf(f.from)
	}
	c.cycles()
	return m, r.errs.Err()
}

// Parse is [Read] for a text that is already at hand; file is its name in messages.
func Parse(file string, text []byte, outside Outside) (*Model, error) {
	r, m := readText(file, text)
	if m.read {
		r.settle(m, outside.Parameter)
		r.databases(m)
		r.place(m, outside.Warehouse)
		r.notices(m)
		r.lineage(m)
		c := &checker{reader: r, model: m, seen: map[any]bool{}, columns: outside.Columns}
		c.check()
		m.Remarks = c.remarks
	}
	return m, r.errs.Err()
}

// readText reads the text of a model as far as it tells by itself.
func readText(file string, text []byte) (*reader, *Model) {
	written := strings.TrimPrefix(string(text), "\ufeff")
	r := newReader(file, written, nil)
	m := &Model{File: file, Text: written, Limits: Limits{20_0000, 20_0000, 10_0000, NoLimit, NoLimit, 0, CountsAsDone}, Undo: 3}
	if top := r.parse([]byte(written)); top != nil {
		m.read = true
		defaultsFirst(top)
		r.section(top, r.modelEntries(m))
		r.twice(m)
		if len(m.Dimensions) == 0 && valueOf(top, "dimensions") == nil {
			r.errorf(diag.Place{File: file}, "", "dimensions is missing (names)")
		}
	}
	return r, m
}

func lowerMonth(m time.Month) string { return strings.ToLower(m.String()) }
