package star

import (
	"net/url"
	"slices"
)

// Notice is who is told how a load ended.
type Notice struct {
	Name
	When    []string // the ends of which is told: of the constants below
	Command []string // a program and its arguments, which gets the run on its standard input; or
	Post    string   // a URL to which it is posted

	command []Name
	post    Name
}

// The ends of a load.
const (
	WhenFailed   = "failed"    // a step failed, or the load did not begin
	WhenBroken   = "broken"    // it is done, and something is not as it should be
	WhenSetAside = "set_aside" // it set rows aside
	WhenDone     = "done"      // it is done, whatever else
)

func (r *reader) noticeEntries(x *Notice) []Entry {
	ends := []string{WhenFailed, WhenBroken, WhenSetAside, WhenDone}
	return []Entry{
		{
			"when",
			"failed, broken, set_aside or done, or a list",
			"of which ends of a load it is told: a step failed or the load did not begin (failed), it ended with status 3 (broken), it set rows aside, or it is done; the default is [failed, broken]",
			false,
			func(n *node) {
				for _, w := range r.words(n, "an end of a load") {
					if x.When = append(x.When, w.Text); !slices.Contains(ends, w.Text) {
						r.errorf(w.At, n.path, "no such end: %s (there is: failed, broken, set_aside, done)", w.Text)
					}
				}
			},
		},
		{"command", "a program, or a list", "a program with its arguments, which is called in the folder of the model. It gets the run as JSON on its standard input", false, func(n *node) { x.command = r.words(n, "a program") }},
		{"post", "a URL", "a URL to which the run is posted as JSON. Parameters in braces can be secrets", false, func(n *node) { x.post, _ = r.word(n, "a URL") }},
	}
}

// notices completes who is told.
func (r *reader) notices(m *Model) {
	for _, x := range m.Notices {
		path := "notify." + x.Text
		if (x.command == nil) == (x.post.Text == "") {
			r.errorf(x.At, path, "who is told? A program (command), or a URL (post)")
			continue
		}
		if x.When == nil {
			x.When = []string{WhenFailed, WhenBroken}
		}
		for _, w := range x.command {
			x.Command = append(x.Command, w.Text)
		}
		if x.post.Text == "" {
			continue
		}
		x.Post = r.url(x.post, path+".post")
	}
}

// url fills in the values of parameters, which may be secret, into a URL to which something is posted.
func (r *reader) url(w Name, path string) string {
	text := r.connect(w, path)
	if u, err := url.Parse(text); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" {
		r.errorf(w.At, path, "not a URL such as https://example.org/hook")
	}
	return text
}
