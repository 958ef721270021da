package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/ledger"
)

// metricsFlag lets a load write its figures for a program that collects them.
func metricsFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "metrics",
		Usage: "write the figures of the load into a `FILE`, in the text format of Prometheus; it is put in the place of the one before",
	}
}

// writeMetrics writes the figures of a run, whole or not at all.
func writeMetrics(file string, run *ledger.Run, failed bool) error {
	text := metrics(run, failed)
	temporary, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".*")
	if err != nil {
		return err
	}
	defer os.Remove(temporary.Name())
	if _, err := temporary.Write(text); err != nil {
		temporary.Close()
		return err
	}
	if err := temporary.Chmod(0o644); err != nil { // others collect it
		temporary.Close()
		return err
	}
	if err := temporary.Close(); err != nil {
		return err
	}
	return os.Rename(temporary.Name(), file)
}

// metrics writes the figures of a run in the text format of Prometheus.
func metrics(run *ledger.Run, failed bool) []byte {
	var b bytes.Buffer
	family := func(name, help string, lines func(line func(labels string, value any))) {
		fmt.Fprintf(&b, "# HELP ironmonger_%s %s\n# TYPE ironmonger_%[1]s gauge\n", name, help)
		lines(func(labels string, value any) {
			if labels != "" {
				labels = "{" + labels + "}"
			}
			fmt.Fprintf(&b, "ironmonger_%s%s %v\n", name, labels, value)
		})
	}
	done := func(is bool) int {
		if is {
			return 1
		}
		return 0
	}
	family("load_done", "Whether the last load is done, and all is as the model asks.", func(line func(string, any)) { line("", done(!failed)) })
	family("load_run", "The number of the last load.", func(line func(string, any)) { line("", run.ID) })
	if run.EndedAt != nil {
		family("load_end_time_seconds", "When the last load ended, in seconds since 1970.", func(line func(string, any)) { line("", run.EndedAt.Unix()) })
	}
	family("step_done", "Whether a step of the last load is done.", func(line func(string, any)) {
		for _, s := range run.Steps {
			line(stepLabel(s), done(s.State == ledger.Done))
		}
	})
	family("step_seconds", "How long a step of the last load took.", func(line func(string, any)) {
		for _, s := range run.Steps {
			if s.StartedAt != nil && s.EndedAt != nil {
				line(stepLabel(s), s.Took().Seconds())
			}
		}
	})
	family("step_rows", "The rows of a step of the last load, by what became of them; read is all of them.", func(line func(string, any)) {
		for _, s := range run.Steps {
			f := &s.Figures
			for _, x := range []struct {
				outcome string
				n       int64
			}{
				{"read", f.Read}, {"inserted", f.Inserted}, {"new", f.New}, {"versions", f.Versions}, {"filled", f.Filled}, {"changed", f.Changed},
				{"same", f.Same}, {"conflicts", f.Conflicts}, {"older", f.Older}, {"kept_out", f.Kept}, {"dropped", f.Dropped}, {"merged", f.Merged},
				{"left_out", f.LeftOut}, {"set_aside", f.SetAside},
			} {
				line(stepLabel(s)+`,outcome="`+x.outcome+`"`, x.n)
			}
		}
	})
	family("table_rows", "The rows of a step's table at its end.", func(line func(string, any)) {
		for _, s := range run.Steps {
			line(stepLabel(s), s.Figures.Table)
		}
	})
	return b.Bytes()
}

// stepLabel is the label of a step.
func stepLabel(s *ledger.Step) string {
	return `step="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s.Name) + `"`
}
