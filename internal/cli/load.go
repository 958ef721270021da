package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"os/user"
	"path/filepath"
	"runtime/debug"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/notify"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// besides is about what the program needs besides members and rows, before its garbage is collected more often.
const besides = 128 << 20

// leastMemory is less than which nobody means.
const leastMemory = 16 << 10

func (s *session) load() *cli.Command {
	return command(&cli.Command{
		Name:      "load",
		Usage:     "load the star",
		ArgsUsage: "[NAME...]",
		Description: "Loads the dimensions, then the facts that point to them. Each step is one transaction. A step that fails keeps nothing;\n" +
			"the steps that need it do not run, the others do. A second load of the same rows changes nothing. Steps that do not wait\n" +
			"for each other run at the same time in PostgreSQL, and read at the same time for SQLite; the result is the same.\n\n" +
			"A file of a fact is not read again if it has not changed, and neither have the model, the parameters and the files that\n" +
			"complete its rows. The result is the same; --again reads all files.\n\n" +
			"With the names of dimensions and facts, it loads these and what they need: the dimensions that they point to, and what\n" +
			"their sources are made of. With --alone it loads nothing else, and the rest is as it stands; with --without it loads all\n" +
			"but some; with --failed what failed in the last load, or did not run because of that.\n\n" +
			"With --dry-run, the load is done and rolled back: it reports the same result and writes nothing. After a step that fails,\n" +
			"no other step runs.\n\n" +
			"If something other than a load has changed a table, the table differs from its account in the ledger. The load goes on,\n" +
			"reports the difference and ends with status 3. It does so each time, until the rows are restored or --accept accepts the\n" +
			"table as it is. The run records who accepted it.\n\n" +
			"Exit status: 0 all steps done; 1 a step failed; 2 the call or the model is wrong; 3 done, and a table differs from its\n" +
			"account.\n\n" +
			"Example:\n  ironmonger load --model canal/ironmonger.yaml\n  ironmonger load passage --dry-run\n  ironmonger load --failed",
		Flags: flags(
			&cli.BoolFlag{Name: "alone", Usage: "load only what is named, and not what it needs"},
			&cli.StringSliceFlag{Name: "without", Usage: "do not load the dimension or fact `NAME`; may be repeated"},
			&cli.BoolFlag{Name: "failed", Usage: "load what failed in the last load, or did not run because of that"},
			&cli.StringSliceFlag{
				Name:  "accept",
				Usage: "accept the table of the dimension or fact `NAME` as it is; may be repeated",
			},
			&cli.BoolFlag{Name: "again", Usage: "read all files of facts, including those that have not changed"},
			&cli.BoolFlag{Name: "dry-run", Usage: "write nothing; report what a load would do"},
			&cli.StringFlag{
				Name:  "memory",
				Value: fmt.Sprintf("%dGiB", load.Memory>>30),
				Usage: "the approximate `SIZE` of memory for members, their rows, and rows that are joined; the rest is kept in temporary files. It does not change the result",
			},
			&cli.IntFlag{
				Name:      "at-once",
				Validator: atLeast(0, 1024),
				Usage:     "at most `N` steps run at the same time; 0 means as many as the warehouse allows. It does not change the result",
			},
			&cli.StringFlag{
				Name:      "execute",
				Usage:     "load all facts at `PLACE`, in_process or in_warehouse, whatever the model says. It does not change the result",
				Validator: anExecution,
			},
			workersFlag(),
			logFlag(),
			metricsFlag(),
		),
		ShellComplete: completes(loadableNames),
		Action: s.loadOrNote(
			func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) (started bool, err error) {
				memory, err := humanize.ParseBytes(c.String("memory"))
				if err != nil || memory < leastMemory || memory > math.MaxInt64 {
					return true, wrong{
						fmt.Errorf(
							"--memory %s: expected a size of 16 KiB at least, such as 500MB or 8GiB",
							c.String("memory"),
						),
					}
				}
				if c.IsSet("memory") { // garbage counts, too
					debug.SetMemoryLimit(int64(min(memory, math.MaxInt64-besides)) + besides)
				}
				part, err := partOf(c, m)
				if err != nil {
					return true, wrong{err}
				}
				if err := loadable(m, "--accept ", c.StringSlice("accept")); err != nil {
					return true, wrong{err}
				}
				if c.IsSet("execute") {
					m.Execute(star.Execution(c.String("execute")))
					if err := executable(m); err != nil {
						return true, wrong{err}
					}
				}
				run, err := s.loadModel(
					ctx,
					c,
					m,
					root,
					load.Options{
						Part:    part,
						Accept:  c.StringSlice("accept"),
						Workers: c.Int("workers"),
						AtOnce:  c.Int("at-once"),
						Memory:  int64(memory),
						Dry:     c.Bool("dry-run"),
						Again:   c.Bool("again"),
					},
				)
				if errors.Is(err, load.ErrAllDone) {
					fmt.Fprintln(s.err, "nothing to load: "+err.Error())
					return true, nil
				}
				return s.ran(c, run, err)
			},
		),
	}, math.MaxInt)
}

// partOf reads which dimensions and facts are to be loaded.
func partOf(c *cli.Command, m *star.Model) (load.Part, error) {
	p := load.Part{Names: c.Args().Slice(), Alone: c.Bool("alone"), Without: c.StringSlice("without"), Failed: c.Bool("failed")}
	if err := loadable(m, "", p.Names); err != nil {
		return p, err
	}
	if err := loadable(m, "--without ", p.Without); err != nil {
		return p, err
	}
	for _, name := range p.Without {
		if slices.Contains(p.Names, name) {
			return p, fmt.Errorf("%s is to be loaded, and load is to do without it", name)
		}
	}
	switch {
	case p.Alone && len(p.Names) == 0:
		return p, errors.New("--alone: which dimension or fact is to be loaded?")
	case p.Failed && len(p.Names) > 0:
		return p, errors.New("--failed loads what failed, and no other names")
	}
	return p, nil
}

func (s *session) rebuild() *cli.Command {
	return command(&cli.Command{
		Name:  "rebuild",
		Usage: "make the star anew from its sources",
		Description: "Makes all tables of the model anew: what a load into an empty warehouse makes of the sources that are there, with the\n" +
			"files in the order in which they came first. Members and versions keep their surrogate keys, so that the facts of other\n" +
			"models still point to them. Erased members stay blank. Tables that a changed model has otherwise are made as it says.\n\n" +
			"All of it is one transaction: readers see the old star until the new one is complete, and if a step fails, everything\n" +
			"stays as it was. A rebuild cannot be taken back by undo.\n\n" +
			"Rows whose files are not there any more would be gone, so the rebuild stops and names the files of facts,\n" +
			"and how many versions dimensions would lose. --without-them goes on.\n\n" +
			"Exit status: 0 the star was made anew; 1 it was not; 2 the call or the model is wrong.\n\n" +
			"Example:\n  ironmonger rebuild --dry-run\n  ironmonger rebuild --model canal/ironmonger.yaml",
		Flags: flags(
			&cli.BoolFlag{Name: "dry-run", Usage: "write nothing; report what a rebuild would do"},
			&cli.BoolFlag{Name: "without-them", Usage: "do without the rows of files that are not there any more"},
			workersFlag(),
			logFlag(),
			metricsFlag(),
		),
		ShellComplete: completes(func(*star.Model) []string { return nil }),
		Action: s.loadOrNote(
			func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) (started bool, err error) {
				run, err := s.loadModel(ctx, c, m, root, load.Options{
					Workers: c.Int("workers"), Dry: c.Bool("dry-run"), Anew: true, Without: c.Bool("without-them"),
				})
				return s.ran(c, run, err)
			},
		),
	}, 0)
}

// ran tells what became of a run, and reports whether there was one.
func (s *session) ran(c *cli.Command, run *ledger.Run, err error) (started bool, _ error) {
	if run == nil {
		return false, err
	}
	if werr := s.result(c, run, render.StepRecords(run), func(width int) { render.Run(s.out, run, width) }); werr != nil {
		return true, werr
	}
	return true, err
}

// anExecution checks the place of --execute.
func anExecution(place string) error {
	if e := star.Execution(place); e != star.InProcess && e != star.InWarehouse {
		return fmt.Errorf("expected %s or %s", star.InProcess, star.InWarehouse)
	}
	return nil
}

func workersFlag() cli.Flag {
	return &cli.IntFlag{
		Name:      "workers",
		Validator: atLeast(0, 1024),
		Usage:     "`N` goroutines read and resolve; 0 means one for each core. It does not change the result",
	}
}

// loadOrNote reads the model for a load, and notes in the ledger, where there is one, that a load did not start.
func (s *session) loadOrNote(
	action func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) (started bool, err error),
) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		started := false
		err := s.onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) (err error) {
			started, err = action(ctx, c, m, root)
			return err
		})(ctx, c)
		if err == nil || started || c.Bool("dry-run") || ctx.Err() != nil {
			return err
		}
		if m, root, merr := readModel(ctx, c, itsLedger); merr == nil {
			defer root.Close()
			if wh, werr := openThere(ctx, m, root); werr == nil {
				defer wh.Close()
				// what keeps it from being noted does not matter beside what kept the load from starting
				_ = load.Unstarted(
					ctx,
					m,
					wh,
					load.Options{Program: "ironmonger " + Version, Holder: holder()},
					err.Error(),
				)
			}
		}
		return err
	}
}

// openThere opens a warehouse to be written to, if it is there.
func openThere(ctx context.Context, m *star.Model, root *os.Root) (warehouse.Warehouse, error) {
	wh, err := openWarehouse(ctx, m, root, warehouse.ToRead)
	if err != nil {
		return nil, err
	}
	wh.Close()
	return openWarehouse(ctx, m, root, warehouse.ToWrite)
}

// loadable refuses names that are those of no dimension and no fact.
func loadable(m *star.Model, option string, given []string) error {
	names := loadableNames(m)
	for _, name := range given {
		if !slices.Contains(names, name) {
			return fmt.Errorf(
				"%s%s: there is no dimension or fact of that name%s",
				option,
				name,
				diag.Suggest(name, names),
			)
		}
	}
	return nil
}

// loadModel loads a model, and tells whoever is to know.
func (s *session) loadModel(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root, opts load.Options) (*ledger.Run, error) {
	run, err := s.loadWatched(ctx, c, m, root, opts)
	s.notify(ctx, c, m, run, err)
	if file := c.String("metrics"); file != "" && run != nil {
		if werr := writeMetrics(file, run, err != nil); werr != nil {
			fmt.Fprintln(s.err, "ironmonger: the figures cannot be written:", werr)
		}
	}
	return run, err
}

// loadWatched loads a model with progress on the terminal, or a log.
func (s *session) loadWatched(
	ctx context.Context,
	c *cli.Command,
	m *star.Model,
	root *os.Root,
	opts load.Options,
) (*ledger.Run, error) {
	mode := warehouse.ToWrite
	if opts.Dry {
		mode = warehouse.ToTry
	}
	if there, err := openWarehouse(ctx, m, root, warehouse.ToRead); err == nil {
		there.Close()
	} else if errors.Is(err, fs.ErrNotExist) { // no file is made for a load that doesn't start
		if err := load.Startable(ctx, m, root); err != nil {
			return nil, err
		}
	}
	wh, err := openWarehouse(ctx, m, root, mode)
	if err != nil {
		return nil, fmt.Errorf("the warehouse cannot be opened: %w", err)
	}
	opts.Program, opts.Holder = "ironmonger "+Version, holder()
	var told *runEvents
	if !opts.Dry {
		if told, err = newEvents(ctx, m, root.Name()); err != nil {
			wh.Close()
			return nil, fmt.Errorf("lineage: %w", err)
		}
	}
	var run *ledger.Run
	watching := func(watch func(load.Progress)) func(load.Progress) {
		return func(n load.Progress) {
			watch(n)
			told.watch(n)
		}
	}
	if form := c.String("log"); form != "" {
		log := newLoadLog(s.err, form)
		opts.Watch = watching(log.watch)
		run, err = load.Run(ctx, m, root, wh, opts)
		log.end(run, err)
	} else {
		progress := s.progress()
		opts.Watch = watching(progress.watch)
		run, err = load.Run(ctx, m, root, wh, opts)
		progress.end()
	}
	told.end(s)
	if cerr := wh.Close(); err == nil && cerr != nil {
		err = cerr
	}
	return run, err
}

// notify tells those whom the model names how a load ended; run is nil if it did not begin.
func (s *session) notify(ctx context.Context, c *cli.Command, m *star.Model, run *ledger.Run, err error) {
	if m.Notices == nil || c.Bool("dry-run") {
		return
	}
	ends := []string{star.WhenFailed}
	switch {
	case err == nil:
		ends = []string{star.WhenDone}
	case errors.Is(err, load.ErrDiffers), errors.Is(err, load.ErrUnmet):
		ends = []string{star.WhenBroken, star.WhenDone}
	}
	message := struct {
		Ends    []string    `json:"ends"`
		Message string      `json:"message,omitempty"`
		Run     *ledger.Run `json:"run,omitempty"`
	}{Run: run}
	if err != nil {
		message.Message = err.Error()
	}
	if run != nil && slices.ContainsFunc(run.Steps, func(s *ledger.Step) bool { return s.Figures.SetAside > 0 }) {
		ends = append(ends, star.WhenSetAside)
	}
	message.Ends = ends
	text, jerr := json.Marshal(message)
	if jerr != nil {
		fmt.Fprintln(s.err, "ironmonger: nobody can be told of the load:", jerr)
		return
	}
	sender := notify.Sender{Dir: filepath.Dir(c.String("model")), Out: s.err}
	if ctx.Err() != nil { // the program is to end
		sender.Limit, sender.Retries = time.Second, []time.Duration{}
	}
	sender.Send(context.WithoutCancel(ctx), m.Notices, ends, append(text, '\n'))
}

// holder says which process this is, and whose, to those who wait for it and in the ledger.
func holder() string {
	host, err := os.Hostname()
	if err != nil {
		host = "this computer"
	}
	who, err := user.Current()
	if err != nil {
		return fmt.Sprintf("process %d on %s", os.Getpid(), host)
	}
	return fmt.Sprintf("process %d of %s on %s", os.Getpid(), who.Username, host)
}
