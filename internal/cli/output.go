package cli

import (
	"io"
	"strings"

	"ironmonger/internal/diag"
)

// printed is the one way out for text: what comes from files can neither steer a terminal nor turn the direction of
// what stands beside it, and no secret passes. It keeps the first error of the writer below.
type printed struct {
	to      io.Writer
	secrets []string
	err     error
}

// shortestSecret is how many bytes a secret has at least that is looked for: shorter ones are in everything.
const shortestSecret = 4

func (p *printed) Write(b []byte) (int, error) {
	if p.err != nil {
		return 0, p.err
	}
	text := string(b)
	for _, s := range p.secrets {
		if len(s) >= shortestSecret {
			text = strings.ReplaceAll(text, s, "***")
		}
	}
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = diag.Printable(line)
	}
	if _, p.err = io.WriteString(p.to, strings.Join(lines, "\n")); p.err != nil {
		return 0, p.err
	}
	return len(b), nil
}
