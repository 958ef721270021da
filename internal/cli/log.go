package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"time"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
)

// logFlag lets a command say what it does as lines of a log.
func logFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "log",
		Usage: "write a log of steps to standard error, in the form `text` or json",
		Validator: func(v string) error {
			if v != "text" && v != "json" {
				return fmt.Errorf("%s is not a form: text or json", v)
			}
			return nil
		},
	}
}

// loadLog writes what a load does as lines of a log: one for its beginning and its end, and for those of each step,
// with figures; a warning for each reason why rows are set aside, and for what is not as it should be.
type loadLog struct {
	to    *slog.Logger
	began map[string]bool
	begin time.Time
}

// newLoadLog begins a log in a form, text or json.
func newLoadLog(w io.Writer, form string) *loadLog {
	options := &slog.HandlerOptions{}
	var h slog.Handler = slog.NewTextHandler(w, options)
	if form == "json" {
		h = slog.NewJSONHandler(w, options)
	}
	return &loadLog{slog.New(h), map[string]bool{}, time.Now()}
}

// watch takes news of a load.
func (l *loadLog) watch(n load.Progress) {
	to := l.to.With("run", n.Run)
	switch {
	case n.Waits != "":
		l.to.Warn("waiting for another load", "holder", n.Waits)
	case n.Step == "":
	case n.Again != nil:
		to.Warn("step begins again", "step", n.Step, "message", n.Again.Error(), "wait", n.Wait.String())
	case n.Entry != nil:
		l.ended(to, n.Entry)
	case n.Ended && n.Err != nil:
		to.Error("step not done", "step", n.Step, "message", n.Err.Error())
	case !n.Ended && !l.began[n.Step]:
		l.began[n.Step] = true
		to.Info("step begins", "step", n.Step)
	}
}

// ended tells how a step ended.
func (l *loadLog) ended(to *slog.Logger, s *ledger.Step) {
	f, level := &s.Figures, slog.LevelInfo
	if to = to.With("step", s.Name); s.State != ledger.Done {
		level = slog.LevelError
	}
	fields := []any{"state", s.State}
	if s.Message != "" {
		fields = append(fields, "message", s.Message)
	}
	if s.StartedAt != nil && s.EndedAt != nil {
		fields = append(fields, "seconds", s.Took().Seconds())
	}
	for _, x := range []struct {
		name string
		n    int64
	}{
		{"read", f.Read}, {"written", f.Written()}, {"same", f.Same}, {"removed", f.Removed}, {"set_aside", f.SetAside},
		{"left_out", f.LeftOut}, {"table_rows", f.Table},
	} {
		fields = append(fields, x.name, x.n)
	}
	to.Log(context.Background(), level, "step ends", fields...)
	for _, r := range f.Reasons {
		to.Warn("rows set aside", "reason", r.Reason, "rows", r.Rows, "file", r.File, "line", r.Line, "value", r.Detail)
	}
	for _, text := range f.Unmet {
		to.Warn("not as the model asks", "message", text)
	}
	for _, d := range f.Differs {
		to.Warn("the table differs from its account", "table", d.Table, "message", d.String())
	}
}

// end tells how the run ended; run is nil if it did not begin.
func (l *loadLog) end(run *ledger.Run, err error) {
	if run == nil {
		l.to.Error("load not begun", "message", fmt.Sprint(err))
		return
	}
	level, failed := slog.LevelInfo, 0
	for _, s := range run.Steps {
		if s.State != ledger.Done {
			failed++
		}
	}
	fields := []any{"run", run.ID, "state", run.State, "model", run.ModelFile, "steps", len(run.Steps), "not_done", failed, "seconds", time.Since(l.begin).Seconds()}
	if err != nil {
		level, fields = slog.LevelError, append(fields, "message", err.Error())
	}
	l.to.Log(context.Background(), level, "load ends", fields...)
}
