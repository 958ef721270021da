package star

// Lineage says who is told, as run events of OpenLineage, what steps read and write.
type Lineage struct {
	Namespace string // of the jobs; "" is the name of the model's folder
	File      string // to which events are added, a line each; "" for none
	Post      string // a URL to which each is posted; "" for none

	file, post Name
}

func (r *reader) lineageEntries(x *Lineage) []Entry {
	return []Entry{
		{"namespace", "a name", "the namespace of the jobs, which the steps are; the default is the name of the model's folder", false, func(n *node) {
			w, _ := r.word(n, "a name")
			x.Namespace = w.Text
		}},
		{"file", "a path", "a file to which the events are added, a JSON object a line; relative to the folder of the model", false, func(n *node) { x.file, _ = r.word(n, "a path") }},
		{"post", "a URL", "a URL to which each event is posted as JSON. Parameters in braces can be secrets", false, func(n *node) { x.post, _ = r.word(n, "a URL") }},
	}
}

// lineage completes who is told of what steps read and write.
func (r *reader) lineage(m *Model) {
	x := &m.Lineage
	if x.file.Text != "" {
		x.File = r.fill(x.file, "lineage.file").Text
	}
	if x.post.Text != "" {
		x.Post = r.url(x.post, "lineage.post")
	}
}
