package draft

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"ironmonger/internal/diag"
	"ironmonger/internal/star"
	"ironmonger/internal/survey"
)

// Extend proposes what a model lacks for tables whose files are below root: sources, dimensions and facts for files
// that it does not read, and columns that have come since. The text of the draft is that of the model with lines added
// to it; nothing else of it changes, but for paths that are added to a source.
func Extend(ctx context.Context, root *os.Root, found []*survey.Table, m *star.Model, text string, o Options) (*Draft, error) {
	x := &extension{model: m, edit: newEdit(text)}
	if x.edit == nil {
		return nil, errors.New("the model is not keys and values")
	}
	names := map[string]bool{}
	for _, s := range m.Sources {
		names[s.Text] = true
	}
	d := &Draft{}
	for _, t := range found {
		if t.Rows == 0 || len(t.Columns) == 0 {
			d.Empty = append(d.Empty, t.Files...)
			continue
		}
		x.add(t, names)
	}
	for k, t := range x.tables {
		t.others = slices.Concat(x.tables[:k], x.tables[k+1:])
		if t.is == nil {
			if err := t.findKey(ctx, root); err != nil {
				return nil, err
			}
		}
	}
	if err := widenKeys(ctx, root, x.tables); err != nil {
		return nil, err
	}
	if err := findReferences(ctx, root, x.tables); err != nil {
		return nil, err
	}
	for _, t := range x.tables {
		for _, r := range t.refs {
			r.to.referred = true
		}
	}
	decide(slices.DeleteFunc(slices.Clone(x.tables), func(t *table) bool { return t.is != nil }))
	x.columns()
	if err := x.sections(o); err != nil {
		return nil, err
	}
	for _, t := range x.tables {
		if t.is == nil {
			d.Sources = append(d.Sources, t.said())
		}
	}
	d.Text, d.Added, d.Doubts = x.edit.text(), x.edit.added(), x.doubts
	return d, nil
}

// extension is a model on its way to more.
type extension struct {
	model  *star.Model
	edit   *edit
	tables []*table
	doubts int
}

// add adds a table; one of which the model reads the files has the names that the model uses, and the key of the
// dimension that is made of it.
func (x *extension) add(t *survey.Table, names map[string]bool) {
	s, missing := x.reads(t)
	if s == nil {
		n := newTable(t, names)
		n.single = unlike(n.single, x.taken())
		x.tables = append(x.tables, n)
		return
	}
	covered := newTable(t, map[string]bool{})
	covered.is, covered.name, covered.as = s, s.Text, asNothing
	for _, f := range covered.fields {
		if c := columnOf(s, f.Name); c != nil {
			f.name, f.known = c.Text, true
		}
	}
	for _, d := range x.model.Dimensions {
		if d.Source == s && !slices.ContainsFunc(d.Matching, func(r *star.Matching) bool { return r != nil }) {
			covered.as, covered.single = asDimension, d.Text
			for _, k := range d.NaturalKey {
				for _, f := range covered.fields {
					if f.name == k.Name && f.known {
						covered.key = append(covered.key, f)
					}
				}
			}
			if len(covered.key) < len(d.NaturalKey) {
				covered.key = nil
			}
			covered.unique = covered.Rows
			if e := d.Effective; e != nil {
				covered.effective = covered.field(e.Name)
			}
		}
	}
	x.tables = append(x.tables, covered)
	if s.At.File == x.model.File {
		x.edit.widen(s, missing)
	}
}

// taken lists the names of dimensions and facts.
func (x *extension) taken() map[string]bool {
	names := map[string]bool{"date": true}
	for _, d := range x.model.Dimensions {
		names[d.Text] = true
	}
	for _, f := range x.model.Facts {
		names[f.Text] = true
	}
	for _, t := range x.tables {
		names[t.single] = true
	}
	return names
}

var parameter = regexp.MustCompile(`\{[^}]*\}`)

// reads returns the source of the model that reads a table, or some of its files, and those of them that it does not;
// nil if none does.
func (x *extension) reads(t *survey.Table) (of *star.Source, missing []string) {
	for _, s := range x.model.Sources {
		if t.Database != nil {
			if s.Database != nil && s.Table.Text == t.Name && isSame(s.Database, t.Database) {
				return s, nil
			}
			continue
		}
		if t.Sheet != "" && s.Sheet.Text != "" && s.Sheet.Text != t.Sheet || t.Record != "" && s.Record.Text != t.Record {
			continue
		}
		var lacks []string
		for _, f := range t.Files {
			if !matches(s, f) {
				lacks = append(lacks, f)
			}
		}
		if len(lacks) < len(t.Files) {
			return s, lacks
		}
	}
	return nil, nil
}

// isSame reports whether two databases are one.
func isSame(a, b *star.Database) bool {
	return a.Kind == b.Kind && a.Path == b.Path && a.Connection == b.Connection
}

// matches reports whether a source reads a file.
func matches(s *star.Source, file string) bool {
	return slices.ContainsFunc(s.Read, func(w star.Name) bool {
		pattern := path.Join(filepath.ToSlash(s.Within.Text), parameter.ReplaceAllString(w.Text, "*"))
		ok, err := path.Match(path.Clean(pattern), file)
		return ok && err == nil
	})
}

// columnOf returns the column of a source that has a name in its files; nil if it takes none such.
func columnOf(s *star.Source, name string) *star.Column {
	for k := range s.Columns {
		if c := &s.Columns[k]; c.InFile() == name || slices.Contains(c.Others, name) {
			return c
		}
	}
	return nil
}

func (t *table) field(name string) *field {
	for _, f := range t.fields {
		if f.name == name {
			return f
		}
	}
	return nil
}

// columns adds the columns that sources do not take. One that older files lack is new, and is taken; one that all files
// have may have been left on purpose, and is proposed in a comment, once.
func (x *extension) columns() {
	done := map[string]bool{}
	for _, t := range x.tables {
		if t.is == nil || t.is.TypesItself() || t.is.Format == star.Fixed || t.Form.Headless || t.is.At.File != x.model.File {
			continue
		}
		own := map[string]bool{}
		for _, f := range t.is.Fields() {
			own[f.Name] = true
		}
		for _, f := range t.fields {
			if id := t.name + "\x00" + f.Name; f.known || done[id] || x.edit.mentions(t.is, f.Name) {
				continue
			} else {
				done[id] = true
			}
			isNew := slices.ContainsFunc(x.tables, func(o *table) bool {
				return o.is == t.is && o != t && !slices.ContainsFunc(o.fields, func(g *field) bool { return g.Name == f.Name })
			})
			f.name = unlike(f.name, own)
			x.column(t, f, isNew)
		}
	}
}

// column adds a column to a source.
func (x *extension) column(t *table, f *field, isNew bool) {
	w := &writer{}
	if isNew {
		w.because(3, "new: %s of %s rows have %s", many(f.Filled, "value"), many(t.Rows, "row"), f.Name)
	}
	for _, r := range t.refs {
		if len(r.by) == 1 && r.by[0] == f {
			w.because(3, "%s of its values are in %s (%s): it may be a key", share(r.hits, r.values), r.to.name, evidence(r.hits, r.values))
		}
	}
	before := w.Len()
	f.optional = isNew && t.Format == star.InCSV
	w.column(f, t)
	lines := strings.Split(strings.TrimRight(w.String(), "\n"), "\n")
	if !isNew {
		for k, at := 0, 0; k < len(lines); k++ {
			if at += len(lines[k]) + 1; at > before && !strings.HasPrefix(strings.TrimSpace(lines[k]), "#") {
				lines[k] = "      # not taken: " + strings.TrimSpace(lines[k])
			}
		}
	}
	if x.edit.columns(t.is, lines) {
		x.doubts += w.doubts
	}
}

// sections adds sources, dimensions and facts for what the model does not read.
func (x *extension) sections(o Options) error {
	fresh := slices.DeleteFunc(slices.Clone(x.tables), func(t *table) bool { return t.is != nil })
	if len(fresh) == 0 {
		return nil
	}
	if err := x.database(fresh[0].Database); err != nil {
		return err
	}
	date := "date"
	for _, d := range x.model.Dimensions {
		if d.Calendar != nil && d.Calendar.Dated() {
			date = d.Text
		}
	}
	calendar := slices.ContainsFunc(x.model.Dimensions, func(d *star.Dimension) bool { return d.Calendar != nil })
	for _, section := range []string{"sources", "dimensions", "facts"} {
		w := &writer{date: date}
		if section == "dimensions" && !calendar && slices.ContainsFunc(fresh, func(t *table) bool { return t.as == asFact }) {
			w.calendar(fresh)
		}
		for _, t := range fresh {
			switch {
			case section == "sources":
				w.source(t)
			case section == "dimensions" && t.as == asDimension:
				w.dimension(t, o)
			case section == "facts" && t.as == asFact:
				w.fact(t, o)
			}
		}
		if x.doubts += w.doubts; w.Len() == 0 {
			continue
		}
		if err := x.edit.section(section, strings.Split(strings.TrimRight(w.String(), "\n"), "\n")); err != nil {
			return err
		}
	}
	return nil
}

// database adds the database that has the tables, if the model has it not: under its name there otherwise.
func (x *extension) database(d *star.Database) error {
	if d == nil {
		return nil
	}
	names := map[string]bool{}
	for _, there := range x.model.Databases {
		if isSame(there, d) {
			d.Name = there.Name
			return nil
		}
		names[there.Text] = true
	}
	d.Text = unlike(d.Text, names)
	w := &writer{}
	w.database(d)
	return x.edit.section("databases", strings.Split(strings.TrimRight(w.String(), "\n"), "\n"))
}

// said is what is proposed for a table.
func (t *table) said() Source {
	s := Source{Name: t.name, As: t.as, Key: namesOf(t.key)}
	if t.effective != nil {
		s.Effective = t.effective.name
	}
	for _, r := range t.refs {
		s.Refers = append(s.Refers, Reference{namesOf(r.by), r.to.name, r.values, r.hits})
	}
	return s
}

// Check reads the text of a model as it would be in a file. The error is a [diag.List].
func Check(file, text string, outside star.Outside) error {
	_, err := star.Parse(file, []byte(text), outside)
	var list diag.List
	if errors.As(err, &list) && len(list) > 0 {
		return fmt.Errorf("what was to be added does not fit the model, which is as it was: %w", list[:1])
	}
	return err
}
