package cli

import (
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"ironmonger/internal/load"
	"ironmonger/internal/render"
)

// progress shows a bar for each step that is going on, if standard error is a terminal.
type progress struct {
	out  io.Writer
	bars *mpb.Progress // nil if that is no terminal
	bar  map[string]*mpb.Bar
	told map[string]*atomic.Pointer[load.Progress]
}

func (s *session) progress() *progress {
	p := &progress{out: s.err, bar: map[string]*mpb.Bar{}, told: map[string]*atomic.Pointer[load.Progress]{}}
	if f, ok := s.terminal.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		p.bars = mpb.New(mpb.WithOutput(f), mpb.WithWidth(40))
	}
	return p
}

func (p *progress) watch(n load.Progress) {
	if n.Waits != "" {
		fmt.Fprintf(p.out, "waiting for %s, which is loading the warehouse\n", n.Waits)
	}
	if n.Again != nil {
		fmt.Fprintf(p.out, "%s: %v: it begins again in %s\n", n.Step, n.Again, n.Wait)
		return
	}
	if p.bars == nil || n.Step == "" {
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
		told, begin := new(atomic.Pointer[load.Progress]), time.Now()
		told.Store(&n)
		far := func(decor.Statistics) string {
			n := told.Load()
			if n.Doing != "" {
				return "  " + n.Doing
			}
			return "  " + render.Plural(
				n.Rows,
				"row",
			) + ", " + render.Decimal(
				fmt.Sprint(int64(float64(n.Rows)/time.Since(begin).Seconds())),
			) + " a second"
		}
		style := mpb.BarStyle().Lbound("").Rbound(" ").Filler("━").Tip("━").Padding("·")
		bar = p.bars.New(n.Total, style, mpb.BarRemoveOnComplete(),
			mpb.PrependDecorators(decor.Name(n.Step+" ")),
			mpb.AppendDecorators(decor.Any(func(at decor.Statistics) string {
				if told.Load().Total == 0 { // nobody knows of how many
					return ""
				}
				return fmt.Sprintf("%d %%", 100*at.Current/max(1, at.Total))
			}), decor.Any(far)))
		p.bar[n.Step], p.told[n.Step] = bar, told
	}
	if n.Total > 0 {
		bar.SetTotal(n.Total+1, false) // the last bit is the commit
	}
	p.told[n.Step].Store(&n)
	bar.SetCurrent(n.Bytes)
}

// rowsOf shows how many rows of something have been looked at.
func (p *progress) rowsOf(what string, rows int64) {
	for name := range p.bar {
		if name != what {
			p.watch(load.Progress{Step: name, Ended: true})
		}
	}
	p.watch(load.Progress{Step: what, Rows: rows})
}

func (p *progress) end() {
	if p.bars != nil {
		for _, bar := range p.bar {
			bar.Abort(true)
		}
		p.bars.Wait()
	}
}
