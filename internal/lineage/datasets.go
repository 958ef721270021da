package lineage

import (
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// made is what a step writes, and of what.
type made struct {
	table  *warehouse.Table
	source *star.Source
	of     map[string][]string // by column of the table, the columns of the source
}

// madeBy returns what a step writes.
func (b *Book) madeBy(step string) made {
	kind, name, _ := strings.Cut(step, " ")
	of := map[string][]string{}
	if kind == "dimension" {
		at := slices.IndexFunc(b.model.Dimensions, func(d *star.Dimension) bool { return d.Text == name })
		d := b.model.Dimensions[at]
		for n, f := range d.NaturalKey {
			of[f.Name] = []string{f.Name}
			if n < len(d.Delivered) {
				of[f.Name] = []string{d.Delivered[n]}
			}
		}
		for _, f := range d.Attributes() {
			of[f.Name] = []string{d.Delivers(f.Name)}
		}
		for _, k := range d.Keys {
			of[k.Column()] = k.By
		}
		return made{b.star.Dimension(d).Table, d.Source, of}
	}
	at := slices.IndexFunc(b.model.Facts, func(f *star.Fact) bool { return f.Text == name })
	f := b.model.Facts[at]
	for _, x := range slices.Concat(f.Measures, f.Degenerate) {
		of[x.Name] = []string{x.Name}
	}
	for _, k := range f.Keys {
		of[k.Column()] = k.By
	}
	return made{b.star.Facts[at].Table, f.Source, of}
}

// datasets adds what a step reads and writes to its event; s is nil while it has not ended.
func (b *Book) datasets(e *Event, step string, s *ledger.Step) {
	m := b.madeBy(step)
	out := b.table(m.table.Name)
	out.Facets = facets{"schema": b.columns(m.table.Fields())}
	fields := facets{}
	var tables []dataset
	for _, f := range m.table.Fields() {
		var list []facets
		for _, name := range m.of[f.Name] {
			if m.source == nil {
				continue
			}
			for _, o := range origins(m.source, name) {
				in, of := b.input(o)
				if o.source.Standing != nil {
					tables = append(tables, in)
				}
				same := func(x facets) bool {
					return x["field"] == of && x["name"] == in.Name && x["namespace"] == in.Namespace
				}
				if !slices.ContainsFunc(list, same) {
					list = append(list, facets{"namespace": in.Namespace, "name": in.Name, "field": of})
				}
			}
		}
		if list != nil {
			fields[f.Name] = facets{"inputFields": list}
		}
	}
	if len(fields) > 0 {
		out.Facets["columnLineage"] = b.facet("ColumnLineageDatasetFacet", "1-2-0", facets{"fields": fields})
	}
	if s != nil && s.State == ledger.Done {
		out.OutputFacets = facets{"outputStatistics": b.facet("OutputStatisticsOutputDatasetFacet", "1-0-2", facets{
			"rowCount": s.Figures.Written(),
		})}
	}
	e.Outputs = append(e.Outputs, out)
	var read []*star.Source
	walk(m.source, &read)
	for _, x := range read {
		e.add(b.readOf(x))
	}
	for _, in := range tables {
		e.add(in)
	}
	if s != nil && s.State == ledger.Done && len(e.Inputs) == 1 { // of several, the step knows what they have together
		e.Inputs[0].InputFacets = facets{"inputStatistics": b.facet("InputStatisticsInputDatasetFacet", "1-0-0", facets{
			"rowCount": s.Figures.Read,
		})}
	}
}

// add adds an input, once.
func (e *Event) add(in dataset) {
	if !slices.ContainsFunc(e.Inputs, func(x dataset) bool { return x.Namespace == in.Namespace && x.Name == in.Name }) {
		e.Inputs = append(e.Inputs, in)
	}
}

// walk lists the sources that read something themselves.
func walk(s *star.Source, list *[]*star.Source) {
	if s == nil || slices.Contains(*list, s) {
		return
	}
	if len(s.Made()) == 0 && s.Calendar == nil && s.Clock == nil {
		*list = append(*list, s)
	}
	for _, o := range s.Others() {
		walk(o, list)
	}
}

// readOf returns what a source reads.
func (b *Book) readOf(s *star.Source) dataset {
	if x := s.Standing; x != nil && x.Dimension != nil {
		return b.table(x.Dimension.TableName())
	} else if x != nil {
		return b.table(b.factTable(x.Fact))
	}
	in := b.source(s)
	var fields []column.Field
	for _, c := range s.Columns {
		fields = append(fields, column.Field{Name: c.InFile(), Type: c.Type})
	}
	if fields != nil {
		in.Facets = facets{"schema": b.columns(fields)}
	}
	return in
}

// input returns what a column stands in, and its name there.
func (b *Book) input(o origin) (dataset, string) {
	x := o.source.Standing
	if x == nil {
		return b.source(o.source), o.column
	}
	for _, k := range x.Keys() {
		for n := range k.Dimension.NaturalKey {
			if k.Natural(n) == o.column {
				return b.table(k.Dimension.TableName()), k.Dimension.NaturalKey[n].Name
			}
		}
	}
	if x.Dimension != nil {
		return b.table(x.Dimension.TableName()), o.column
	}
	return b.table(b.factTable(x.Fact)), o.column
}

func (b *Book) factTable(f *star.Fact) string {
	return b.star.Facts[slices.Index(b.model.Facts, f)].Table.Name
}

// source returns what a source reads outside of the star, as the standard names such things.
func (b *Book) source(s *star.Source) dataset {
	if s.Database == nil {
		return dataset{Namespace: "file", Name: b.files(s)}
	}
	d := dataset{Namespace: s.Database.Kind + "://" + host(s.Database.Connection), Name: s.Table.Text}
	if s.Database.Path != "" {
		d.Namespace = "sqlite://" + b.path(s.Database.Path)
	}
	if d.Name == "" {
		d.Name = s.Text // a query has the name of its source
	}
	return d
}

// files is the patterns of the files of a source.
func (b *Book) files(s *star.Source) string {
	var list []string
	for _, r := range s.Read {
		name := filepath.FromSlash(r.Text)
		if s.Within.Text != "" && !filepath.IsAbs(name) {
			name = filepath.Join(filepath.FromSlash(s.Within.Text), name)
		}
		list = append(list, b.path(name))
	}
	return strings.Join(list, " ")
}

func (b *Book) path(name string) string {
	if !filepath.IsAbs(name) {
		name = filepath.Join(b.dir, name)
	}
	return filepath.ToSlash(name)
}

// table returns a table of the star.
func (b *Book) table(name string) dataset {
	if b.at.Path != "" {
		return dataset{Namespace: "sqlite://" + b.path(b.at.Path), Name: name}
	}
	return dataset{Namespace: "postgres://" + host(b.at.Connection), Name: b.at.Schema + "." + name}
}

// host is where a server is by the words of a connection, and which database; never who one is there.
func host(connection string) string {
	if u, err := url.Parse(connection); err == nil && u.Host != "" {
		return u.Host + u.Path
	}
	said := map[string]string{"host": "localhost"}
	for _, word := range strings.Fields(connection) {
		if name, value, ok := strings.Cut(word, "="); ok {
			said[name] = strings.Trim(value, "'")
		}
	}
	at := said["host"]
	if said["service"] != "" {
		at = said["service"]
	}
	if said["port"] != "" {
		at += ":" + said["port"]
	}
	if said["dbname"] != "" {
		at += "/" + said["dbname"]
	}
	return at
}
