package source

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/tidwall/gjson"

	"ironmonger/internal/star"
)

// FuzzXML reads what may be no XML: each row is an object on a line of its own, and what is wrong is told in words.
func FuzzXML(f *testing.F) {
	f.Add(`<a><b x="1">t<c/></b><b><!-- --><![CDATA[<]]>&lt;</b></a>`, "a.b")
	f.Add(`<?xml version="1.0" encoding="iso-8859-1"?><n:a xmlns:n="u"><n:b>`+"\xe9"+`</n:b></n:a>`, "a.b")
	f.Fuzz(func(t *testing.T, text, path string) {
		lines, err := io.ReadAll(newXMLRecords(strings.NewReader(text), path))
		var document *documentError
		if err != nil && !errors.As(err, &document) {
			t.Errorf("%T: %v", err, err)
		}
		for line := range bytes.Lines(lines) {
			if line = bytes.TrimSpace(line); !gjson.ValidBytes(line) || line[0] != '{' {
				t.Errorf("%q", line)
			}
		}
		RecordPath([]byte(text))
	})
}

// FuzzFixed cuts lines of any bytes: as many lines come out as go in, each with its fields, and none has blanks around
// it.
func FuzzFixed(f *testing.F) {
	f.Add("ab cd\nÄö\xffx  \r\n\n", 1, 2, 3)
	f.Fuzz(func(t *testing.T, text string, a, b, c int) {
		s := &star.Source{}
		for _, from := range []int{a, b, c} {
			from = 1 + (from&0xff)%40
			s.Columns = append(s.Columns, star.Column{Chars: star.Span{From: from, To: from + 3}})
		}
		out, err := io.ReadAll(newFixed(strings.NewReader(text), s))
		if err != nil {
			t.Fatal(err)
		}
		if got, want := bytes.Count(out, []byte{'\n'}), strings.Count(text, "\n"); !strings.ContainsAny(text, "\r\"") && got != want && got != want+1 {
			t.Errorf("%d lines of %d: %q", got, want, out)
		}
	})
}
