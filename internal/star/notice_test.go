package star

import (
	"strings"
	"testing"
)

// TestNotices: what is wrong with who is told has its place, and a secret may be part of a URL.
func TestNotices(t *testing.T) {
	for _, c := range []struct{ notice, want string }{
		{"{command: mail}", ""},
		{"{command: [mail, -s, canal], when: [set_aside, done]}", ""},
		{"{post: 'https://example.org/{word}'}", ""},
		{"{}", "notify.who: who is told? A program (command), or a URL (post)"},
		{"{command: mail, post: 'https://example.org'}", "who is told?"},
		{"{command: mail, when: always}", "no such end: always"},
		{"{post: 'example.org/hook'}", "not a URL such as https://example.org/hook"},
		{"{post: 'ftp://example.org/hook'}", "not a URL"},
	} {
		text := "warehouse: {sqlite: s.db}\nparameters: {word: {type: secret}}\nnotify:\n  who: " + c.notice + "\ndimensions: {d: {rows: [{a: 1}], natural_key: a}}\n"
		m, err := Parse("m.yaml", []byte(text), Outside{Parameter: func(string) (string, bool) { return "hush/hush", true }})
		if said := errorText(err); c.want == "" && said != "" || !strings.Contains(said, c.want) {
			t.Errorf("%s: %s, want %s", c.notice, said, c.want)
		}
		if c.want == "" && m.Notices[0].Post != "" && m.Notices[0].Post != "https://example.org/hush%2Fhush" {
			t.Errorf("%s: it is posted to %s", c.notice, m.Notices[0].Post)
		}
	}
}
