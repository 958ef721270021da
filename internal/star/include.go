package star

import (
	"cmp"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/diag"
)

// includable are the keys of a model that a file can have which it includes: what has names.
var includable = []string{"parameters", "databases", "defaults", "sources", "dimensions", "facts"}

// include reads other files of the model.
func (r *reader) include(n *node, m *Model) {
	dir := filepath.Dir(r.file)
	for _, w := range r.words(n, "a file") {
		files, err := filepath.Glob(filepath.Join(dir, filepath.FromSlash(w.Text)))
		switch {
		case filepath.IsAbs(w.Text):
			r.errorf(w.At, n.path, "%s is not relative to the folder of the model", w.Text)
			continue
		case err != nil:
			r.errorf(w.At, n.path, "%s is not a pattern: %v", w.Text, err)
			continue
		case len(files) == 0:
			r.errorf(w.At, n.path, "there is no file %s in %s", w.Text, dir)
		}
		for _, file := range files {
			r.includeFile(file, w, n.path, m)
		}
	}
}

// includeFile reads a file whose name stands at a place.
func (r *reader) includeFile(file string, w Name, subject string, m *Model) {
	if r.texts[file] != nil {
		r.errorf(w.At, subject, "%s is part of the model already", file)
		return
	}
	text, err := readFile(file)
	if err != nil {
		r.errorf(w.At, subject, "%s cannot be read: %v", file, err)
		return
	}
	written := strings.TrimPrefix(string(text), "\ufeff")
	in := newReader(file, written, r.gathered)
	if top := in.parse([]byte(written)); top != nil {
		entries := slices.DeleteFunc(in.modelEntries(m), func(e Entry) bool { return !slices.Contains(includable, e.Name) })
		for k := range entries {
			entries[k].Required = false
		}
		defaultsFirst(top)
		in.section(top, entries)
	}
	m.Text += "\n" + written
}

// twice refuses names that stand in two files of the model.
func (r *reader) twice(m *Model) {
	twiceIn(r, "parameters", m.Parameters, func(p *Parameter) Name { return p.Name })
	twiceIn(r, "databases", m.Databases, func(d *Database) Name { return d.Name })
	twiceIn(r, "sources", m.Sources, func(s *Source) Name { return s.Name })
	twiceIn(r, "dimensions", m.Dimensions, func(d *Dimension) Name { return d.Name })
	twiceIn(r, "facts", m.Facts, func(f *Fact) Name { return f.Name })
}

func twiceIn[T any](r *reader, section string, things []*T, nameOf func(*T) Name) {
	first := map[string]diag.Place{}
	for _, x := range things {
		w := nameOf(x)
		if at, again := first[w.Text]; again && at.File != w.At.File {
			r.errorf(w.At, section+"."+w.Text, "%s is called so already at %s", section, at)
		}
		first[w.Text] = w.At
	}
}

// folderDefaults is what holds for all sources of a folder.
type folderDefaults struct {
	folder string
	node   *node
	of     *reader
}

// folderDefaults reads what holds for the sources of folders, and checks it.
func (r *reader) folderDefaults(n *node) {
	r.each(n, func(n *node) {
		r.section(n, r.defaultEntries(&Source{Files: Files{CSV: PlainCSV}}))
		r.defaults = append(r.defaults, folderDefaults{path.Clean(filepath.ToSlash(n.key.Text)), n, r})
	})
}

// defaultKeys are the keys of a source that can be said of a folder.
var defaultKeys = []string{"within", "format", "csv", "sheet", "settle", "companion", "unreadable"}

func (r *reader) defaultEntries(s *Source) []Entry {
	return slices.DeleteFunc(r.sourceEntries(s), func(e Entry) bool { return !slices.Contains(defaultKeys, e.Name) })
}

// applyDefaults makes what is said of its folder hold for a source that is about to be read. Of a folder in another
// one, what is said of the outer one comes first.
func (r *reader) applyDefaults(n *node, s *Source) {
	first := firstRead(n)
	if first == "" {
		return
	}
	within := func(folder string) bool {
		return folder == "." || first == folder || strings.HasPrefix(first, folder+"/")
	}
	fitting := slices.DeleteFunc(slices.Clone(r.defaults), func(d folderDefaults) bool {
		return !within(d.folder) || d.of != r && d.of.file != r.first
	})
	slices.SortStableFunc(fitting, func(a, b folderDefaults) int {
		return cmp.Compare(len(strings.TrimPrefix(a.folder, ".")), len(strings.TrimPrefix(b.folder, ".")))
	})
	for _, d := range fitting {
		before := d.of.errs
		d.of.section(d.node, d.of.defaultEntries(s))
		d.of.errs = before // they have been told
	}
}

// firstRead returns the first path that a source reads; "" if it reads none.
func firstRead(n *node) string {
	v := valueOf(n, "read")
	if v != nil && v.Kind == yaml.SequenceNode && len(v.Content) > 0 {
		v = v.Content[0]
	}
	if v == nil || v.Kind != yaml.ScalarNode {
		return ""
	}
	return path.Clean(filepath.ToSlash(v.Value))
}

// valueOf returns what stands under a key of a mapping; nil if nothing does.
func valueOf(n *node, key string) *yaml.Node {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// defaultsFirst moves what holds for others to the beginning of a file, wherever it is written.
func defaultsFirst(top *node) {
	for i := 0; top.Kind == yaml.MappingNode && i+1 < len(top.Content); i += 2 {
		if top.Content[i].Value == "defaults" {
			pair := slices.Clone(top.Content[i : i+2])
			top.Content = append(pair, slices.Delete(top.Content, i, i+2)...)
			return
		}
	}
}
