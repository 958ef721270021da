package star

import (
	"os"
	"strings"
	"time"

	"ironmonger/internal/place"
)

// MaxFile is the most bytes a model file may have.
const MaxFile = 4 << 20

// Read reads and checks the model in a file, whose parameters have the values given, or their defaults. The error is a [place.List] of all that is wrong, or
// what kept the file from being read. The model that comes with a list is what could be made out.
func Read(file string, given func(parameter string) (value string, ok bool)) (*Model, error) {
	info, err := os.Stat(file)
	if err == nil && info.Size() > MaxFile {
		return nil, place.List{{At: place.Place{File: file}, Message: "the model is larger than 4 MiB"}}
	}
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return Parse(file, text, given)
}

// Parse is [Read] for a text that is already at hand; file is its name in messages.
func Parse(file string, text []byte, given func(parameter string) (value string, ok bool)) (*Model, error) {
	written := strings.TrimPrefix(string(text), "\ufeff")
	r := &reader{file: file, lines: strings.Split(strings.ReplaceAll(written, "\r\n", "\n"), "\n")}
	m := &Model{File: file, Text: written, Limits: Limits{20_0000, 20_0000}}
	if top := r.parse([]byte(written)); top != nil {
		r.section(top, r.modelEntries(m))
		r.settle(m, given)
		for _, s := range m.Sources {
			for i, w := range s.Read {
				s.Read[i] = r.fill(w, "sources."+s.Text+".read")
			}
			s.Within = r.fill(s.Within, "sources."+s.Text+".within")
		}
		c := &checker{reader: r, model: m}
		c.check()
		m.Remarks = c.remarks
	}
	return m, r.errs.Err()
}

func lowerMonth(m time.Month) string { return strings.ToLower(m.String()) }
