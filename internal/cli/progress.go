package cli

import (
	"os"
	"sync/atomic"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"ironmonger/internal/load"
	"ironmonger/internal/view"
)

// progress shows a bar for each step that is going on, if standard error is a terminal.
type progress struct {
	bars *mpb.Progress
	bar  map[string]*mpb.Bar
	rows map[string]*atomic.Int64
}

func (s *session) progress() *progress {
	p := &progress{bar: map[string]*mpb.Bar{}, rows: map[string]*atomic.Int64{}}
	if f, ok := s.err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		p.bars = mpb.New(mpb.WithOutput(f), mpb.WithWidth(40))
	}
	return p
}

func (p *progress) watch(n load.Progress) {
	if p.bars == nil {
		return
	}
	bar := p.bar[n.Step]
	if n.Ended {
		if bar != nil {
			bar.Abort(true)
		}
		return
	}
	if bar == nil {
		rows := new(atomic.Int64)
		style := mpb.BarStyle().Lbound("").Rbound(" ").Filler("━").Tip("━").Padding("·")
		bar = p.bars.New(n.Total, style, mpb.BarRemoveOnComplete(),
			mpb.PrependDecorators(decor.Name(n.Step+" ")),
			mpb.AppendDecorators(decor.Percentage(), decor.Any(func(decor.Statistics) string { return "  " + view.Plural(rows.Load(), "row") })))
		p.bar[n.Step], p.rows[n.Step] = bar, rows
	}
	if n.Total > 0 {
		bar.SetTotal(n.Total+1, false) // the last bit is the commit
	}
	p.rows[n.Step].Store(n.Rows)
	bar.SetCurrent(n.Bytes)
}

func (p *progress) end() {
	if p.bars != nil {
		for _, bar := range p.bar {
			bar.Abort(true)
		}
		p.bars.Wait()
	}
}
