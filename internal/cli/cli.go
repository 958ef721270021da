// Package cli is the command line: it turns words into calls of the core and results into text. Each
// command is a value in a file of its own. Only this package knows flags, and only it picks the kind of
// warehouse.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"ironmonger/internal/diag"
	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/render"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// Version is what the program calls itself.
const Version = "0.1.0"

// Exit statuses (rule R31).
const (
	Done   = 0
	Failed = 1 // nothing of the failing step is kept
	Wrong  = 2 // the call or the model is wrong
	Unmet  = 3 // done, and something that must hold doesn't
)

// errUnmet says that something that must hold does not; the result has told it.
var errUnmet = errors.New("a check does not hold")

// wrong marks an error as one of the call or the model.
type wrong struct{ error }

func (w wrong) Unwrap() error { return w.error }

// session is one call of the program.
type session struct {
	out, err *printed
	raw      io.Writer // what out writes to: for results that programs read
	terminal io.Writer // what err writes to: for progress
}

// Main runs the program with its arguments and gives its exit status.
func Main(args []string, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends the program at once, which no load minds
	s := &session{out: &printed{to: stdout}, err: &printed{to: stderr}, raw: stdout, terminal: stderr}
	err := s.root().Run(ctx, args)
	if ctx.Err() != nil && err != nil && !errors.Is(err, load.ErrSteps) {
		err = context.Canceled
	}
	if err == nil && s.out.err != nil {
		err = fmt.Errorf("the result cannot be written: %w", s.out.err)
	}
	return s.status(err)
}

func (s *session) root() *cli.Command {
	return &cli.Command{
		Name:    "ironmonger",
		Usage:   "load star schemas: dimensions, facts and their keys, with an account of every row",
		Version: Version,
		Description: "The model, ironmonger.yaml, declares the sources, the dimensions and the facts, and the rules for what does not fit.\n" +
			"Results are written to standard output, progress and errors to standard error.\n\n" +
			"Exit status: 0 done; 1 failed, and nothing of the failing step is kept; 2 the call or the model is wrong; 3 done, and\n" +
			"something does not hold.\n\n" +
			"Example:\n  ironmonger demo canal && cd canal && ironmonger load",
		Writer: s.out, ErrWriter: s.err,
		Commands: []*cli.Command{
			s.demo(),
			s.draft(),
			s.check(),
			s.order(),
			s.show(),
			s.load(),
			s.strays(),
			s.prove(),
			s.trace(),
			s.rehearse(),
			s.erase(),
			s.undo(),
			s.copy(),
			s.rebuild(),
			s.runs(),
			s.calendar(),
			s.ddl(),
			s.schema(),
		},
		Action:          s.unknown,
		OnUsageError:    usageError,
		ExitErrHandler:  func(context.Context, *cli.Command, error) {},
		HideHelpCommand: true, EnableShellCompletion: true, ConfigureShellCompletionCommand: s.completion,
	}
}

func (s *session) unknown(_ context.Context, c *cli.Command) error {
	if c.Args().Len() == 0 {
		return cli.ShowAppHelp(c)
	}
	var names []string
	word := c.Args().First()
	if word == "help" {
		if word = c.Args().Get(1); word == "" {
			return cli.ShowAppHelp(c)
		}
	}
	for _, sub := range c.Commands {
		if sub.Name == word && c.Args().First() == "help" {
			return cli.ShowCommandHelp(context.Background(), c, word)
		}
		if !sub.Hidden {
			names = append(names, sub.Name)
		}
	}
	return wrong{fmt.Errorf("there is no command %s%s", word, diag.Suggest(word, names))}
}

// usageError says what is wrong with an option, in our words.
func usageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag provided but not defined: -"); ok {
		var names []string
		for _, f := range c.Flags {
			for _, n := range f.Names() {
				if len(n) > 1 {
					names = append(names, "--"+n)
				}
			}
		}
		name = "--" + strings.TrimLeft(name, "-")
		return wrong{
			fmt.Errorf("there is no option %s%s; see ironmonger %s --help", name, diag.Suggest(name, names), c.Name),
		}
	}
	if m := invalidValue.FindStringSubmatch(text); m != nil {
		why := m[3]
		if strings.HasPrefix(why, "strconv.") {
			why = "expected a whole number"
		}
		return wrong{fmt.Errorf("--%s %s: %s", m[2], m[1], why)}
	}
	if name, ok := strings.CutPrefix(text, "flag needs an argument: "); ok {
		return wrong{fmt.Errorf("-%s needs a value", name)}
	}
	return wrong{err}
}

var invalidValue = regexp.MustCompile(`^invalid value "((?s:.*))" for flag -(\S+): ((?s:.*))$`)

// atLeast refuses a number that is less, or out of all proportion.
func atLeast(least, most int) func(int) error {
	return func(n int) error {
		if n < least || n > most {
			return fmt.Errorf("expected a whole number from %d to %d", least, most)
		}
		return nil
	}
}

// command completes a command: what takes no arguments refuses them.
func command(c *cli.Command, arguments int) *cli.Command {
	c.OnUsageError = usageError
	c.HideHelpCommand = true
	c.DisableSliceFlagSeparator = true // a value may have commas
	action := c.Action
	c.Action = func(ctx context.Context, cmd *cli.Command) error {
		if cmd.Args().Len() > arguments {
			return wrong{
				fmt.Errorf(
					"%s: too many arguments, beginning with %s; see ironmonger %s --help",
					c.Name,
					cmd.Args().Get(arguments),
					c.Name,
				),
			}
		}
		return action(ctx, cmd)
	}
	return c
}

// status tells an error and returns the exit status for it.
func (s *session) status(err error) int {
	if err == nil {
		return Done
	}
	var list diag.List
	var one *diag.Error
	var w wrong
	switch {
	case errors.As(err, &list):
		fmt.Fprintln(s.err, list.Error())
		if len(list) > 1 {
			fmt.Fprintf(s.err, "%d mistakes\n", len(list))
		}
		return Wrong
	case errors.As(err, &one):
		fmt.Fprintln(s.err, one.Error())
		if errors.As(err, &w) {
			return Wrong
		}
		return Failed
	case errors.Is(err, errUnmet), errors.Is(err, load.ErrDiffers), errors.Is(err, load.ErrUnmet): // told by the result
		return Unmet
	case errors.Is(err, load.ErrSteps):
		return Failed // the run's table has told it
	case errors.As(err, &w):
		fmt.Fprintln(s.err, "ironmonger:", strings.TrimPrefix(err.Error(), "ironmonger: "))
		return Wrong
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(s.err, "ironmonger: stopped")
		return Failed
	}
	fmt.Fprintln(s.err, "ironmonger:", err)
	return Failed
}

// flags returns the flags that commands share, with more of its own.
func flags(more ...cli.Flag) []cli.Flag {
	model := &cli.StringFlag{
		Name:    "model",
		Aliases: []string{"m"},
		Value:   "ironmonger.yaml",
		Usage:   "the model `FILE`",
	}
	set := &cli.StringSliceFlag{
		Name:  "set",
		Usage: "the value of a parameter of the model, as `NAME=VALUE`; may be repeated",
	}
	warehouse := &cli.StringFlag{
		Name:    "warehouse",
		Usage:   "the warehouse `NAME` of those in the model, in place of the one that it says",
		Sources: cli.EnvVars("IRONMONGER_WAREHOUSE"),
	}
	parameters := &cli.StringFlag{
		Name:  "parameters",
		Usage: "a `FILE` with values of parameters, one NAME: VALUE in each line",
	}
	return append(append([]cli.Flag{model, warehouse, set, parameters}, formatFlags()...), more...)
}

func formatFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "format",
			Value: "text",
			Usage: "the format of the result: `text`, json or csv",
			Validator: func(v string) error {
				if v != "text" && v != "json" && v != "csv" {
					return fmt.Errorf("%s is none of text, json, csv", v)
				}
				return nil
			},
		},
		&cli.BoolFlag{Name: "wide", Usage: "do not cut text to the width of the terminal"},
		&cli.BoolFlag{
			Name:  "guard",
			Usage: "in csv: an apostrophe before values that a spreadsheet would read as formulas",
		},
	}
}

// settings reads the values of parameters that a call gives: in a file, and on the command line.
func settings(c *cli.Command) (map[string]string, error) {
	given := map[string]string{}
	if file := c.String("parameters"); file != "" {
		var err error
		if given, err = star.ReadParameters(file); err != nil {
			return nil, wrong{err}
		}
	}
	for _, set := range c.StringSlice("set") {
		name, value, ok := strings.Cut(set, "=")
		if !ok {
			return nil, wrong{fmt.Errorf("--set %s: a parameter is given as name=value", set)}
		}
		given[name] = value
	}
	return given, nil
}

// want is what a command wants of a model.
type want int

const (
	allOfIt   want = iota // every parameter has to have a value
	itsStar               // a parameter without a value has that of the last run: what is loaded is looked at
	itsLedger             // only where its star stands
)

// readModel reads what is wanted of the model that the call names, with the folder in which its files are.
func readModel(ctx context.Context, c *cli.Command, of want) (m *star.Model, root *os.Root, err error) {
	file := c.String("model")
	given, err := settings(c)
	if err != nil {
		return nil, nil, err
	}
	defer func() {
		if err != nil && root != nil {
			root.Close()
		}
	}()
	parameter := values(given)
	if root, err = os.OpenRoot(filepath.Dir(file)); err == nil {
		switch of {
		case itsLedger:
			m, err = star.ReadWarehouse(file, c.String("warehouse"), parameter)
		case itsStar:
			parameter = orLast(ctx, file, c.String("warehouse"), root, parameter)
			fallthrough
		default:
			outside := transform.Outside(ctx, root, parameter)
			outside.Warehouse = c.String("warehouse")
			m, err = star.Read(file, outside)
		}
	}
	if err != nil {
		return nil, root, unread(file, err)
	}
	if of != itsLedger {
		if err = cmp.Or(nameable(m), executable(m)); err != nil {
			return nil, root, err
		}
	}
	var names []string
	for _, p := range m.Parameters {
		names = append(names, p.Text)
	}
	for name := range given {
		if !slices.Contains(names, name) {
			err = wrong{
				fmt.Errorf(
					"there is a value for %s, but the model has no such parameter%s",
					name,
					diag.Suggest(name, names),
				),
			}
			return nil, root, err
		}
	}
	return m, root, inSight(c, m)
}

// values looks values of parameters up: in the call and its file, in the environment, among the credentials of the
// service.
func values(given map[string]string) func(name string) (string, bool) {
	return func(name string) (string, bool) {
		if value, ok := given[name]; ok {
			return value, true
		}
		if value, ok := os.LookupEnv("IRONMONGER_SET_" + name); ok {
			return value, true
		}
		return credential(name)
	}
}

// credential reads a value that systemd hands to a service (LoadCredential=): a file of the name of the parameter.
func credential(name string) (string, bool) {
	dir := os.Getenv("CREDENTIALS_DIRECTORY")
	if dir == "" {
		return "", false
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", false
	}
	defer root.Close()
	text, err := root.ReadFile(name)
	return strings.TrimRight(string(text), "\r\n"), err == nil
}

// inSight refuses a secret in the call itself, which everybody on the computer sees.
func inSight(c *cli.Command, m *star.Model) error {
	for _, set := range c.StringSlice("set") {
		name, _, _ := strings.Cut(set, "=")
		if slices.ContainsFunc(m.Parameters, func(p *star.Parameter) bool { return p.Text == name && p.Secret }) {
			return wrong{fmt.Errorf(
				"--set %s: it is a secret, and the list of processes shows the call to everybody on this computer: IRONMONGER_SET_%[1]s in the environment, a file (--parameters), or a credential of systemd can have it",
				name,
			)}
		}
	}
	return nil
}

// orLast returns the values of parameters as they are given, and for those that have none and no default the values
// that the last run of the model had, as far as its ledger tells.
func orLast(
	ctx context.Context,
	file, name string,
	root *os.Root,
	given func(name string) (string, bool),
) func(name string) (string, bool) {
	m, err := star.ReadWarehouse(file, name, given)
	if err != nil || !slices.ContainsFunc(m.Parameters, func(p *star.Parameter) bool { return p.Default == nil && !p.Secret }) {
		return given
	}
	last := map[string]string{}
	err = reading(ctx, m, root, func() error { return nil }, func(r warehouse.Reader) error {
		runs, err := ledger.Runs(ctx, r, 0)
		at := slices.IndexFunc(ledger.Lasting(runs), func(run *ledger.Run) bool {
			return len(run.Steps) > 0 && filepath.Base(run.ModelFile) == filepath.Base(file)
		})
		if at >= 0 {
			last = ledger.Lasting(runs)[at].Parameters
		}
		return err
	})
	if err != nil {
		return given
	}
	return func(name string) (string, bool) {
		if value, ok := given(name); ok {
			return value, true
		}
		bare := slices.ContainsFunc(m.Parameters, func(p *star.Parameter) bool { return p.Text == name && p.Default == nil })
		value, ok := last[name]
		return value, ok && bare
	}
}

// nameable says no where a table or column of a model would have a longer name than its warehouse takes.
func nameable(m *star.Model) error {
	d, err := warehouse.DriverOf(m.Warehouse.Kind)
	if err != nil {
		return err
	}
	can, s := d.Capabilities(), schema.New(m)
	var list diag.List
	refuse := func(is func(name string) bool, why string) {
		for _, name := range s.Named(is) {
			list = append(list, &diag.Error{At: diag.Place{File: m.File}, Message: name + " " + why})
		}
	}
	refuse(func(name string) bool { return can.MaxName > 0 && len(name) > can.MaxName },
		fmt.Sprintf("is longer than the %d bytes that the warehouse takes: shorten the names in the model that it is made of", can.MaxName))
	refuse(func(name string) bool { return can.LowerCase && name != strings.ToLower(name) },
		"has capital letters, which the warehouse does not tell from small ones: write the names in the model that it is made of in small letters")
	list = slices.Concat(list, ofLedger(m, s, can))
	return list.Err()
}

// ofLedger says no where a table would be taken for one of the ledger, which a warehouse keeps elsewhere.
func ofLedger(m *star.Model, s *schema.Star, can warehouse.Capabilities) (list diag.List) {
	for _, name := range s.Named(func(name string) bool { return strings.HasPrefix(name, warehouse.Bookkeeping) }) {
		if can.LowerCase && strings.HasPrefix(name, "table ") {
			list = append(list, &diag.Error{At: diag.Place{File: m.File}, Message: name + ": names of tables of the ledger begin so"})
		}
	}
	return list
}

// executable says no where a fact or a dimension is to be loaded in the warehouse, and cannot be.
func executable(m *star.Model) error {
	var list diag.List
	for _, d := range m.Dimensions {
		where, at, demanded := m.ExecutionOf(d)
		if !demanded || where != star.InWarehouse {
			continue
		}
		if err := inside.CheckMembers(m, d); err != nil {
			const message = "the dimension cannot be loaded in the warehouse: %v"
			list = append(list, &diag.Error{At: at, Subject: "dimensions." + d.Text + ".execute", Message: fmt.Sprintf(message, err)})
		}
	}
	for _, f := range m.Facts {
		where, at := m.Execution(f)
		if where != star.InWarehouse {
			continue
		}
		if err := inside.Check(m, f); err != nil {
			const message = "the fact cannot be loaded in the warehouse: %v"
			list = append(list, &diag.Error{At: at, Subject: "facts." + f.Text + ".execute", Message: fmt.Sprintf(message, err)})
		}
	}
	return list.Err()
}

// unread says that a model cannot be read, unless the error tells what is wrong with it.
func unread(file string, err error) error {
	var list diag.List
	if errors.As(err, &list) {
		return err
	}
	return wrong{fmt.Errorf("the model cannot be read: %w (%s)", err, noModel(file))}
}

// modelAction is an action that wants the model that the call names, and the folder of its files.
type modelAction func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error

// onModel reads the model for an action, onStar for one that looks at what is loaded, onLedger only where its star
// stands.
func (s *session) onModel(action modelAction) cli.ActionFunc { return s.withModel(action, allOfIt) }

func (s *session) onStar(action modelAction) cli.ActionFunc { return s.withModel(action, itsStar) }

func (s *session) onLedger(action modelAction) cli.ActionFunc { return s.withModel(action, itsLedger) }

func (s *session) withModel(action modelAction, of want) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		m, root, err := readModel(ctx, c, of)
		if m != nil {
			for _, p := range m.Parameters {
				if p.Secret {
					s.out.secrets, s.err.secrets = append(s.out.secrets, p.Value), append(s.err.secrets, p.Value)
				}
			}
		}
		if err != nil {
			return err
		}
		defer root.Close()
		return action(ctx, c, m, root)
	}
}

// openWarehouse opens the warehouse that the model names.
func openWarehouse(
	ctx context.Context,
	m *star.Model,
	root *os.Root,
	mode warehouse.Mode,
) (warehouse.Warehouse, error) {
	return warehouse.Open(ctx, schema.Location(m, root.Name()), mode)
}

// reading opens the warehouse to be read as it is now, for f: it is the same until f returns, and an interrupt ends
// what f asks. If nothing was ever loaded, none is called.
func reading(
	ctx context.Context,
	m *star.Model,
	root *os.Root,
	none func() error,
	f func(r warehouse.Reader) error,
) error {
	wh, err := openWarehouse(ctx, m, root, warehouse.ToRead)
	if errors.Is(err, fs.ErrNotExist) {
		return none()
	} else if err != nil {
		return err
	}
	defer wh.Close()
	r, err := wh.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer r.Close()
	return f(r)
}

// result writes v as JSON or its records as CSV if the call asks for it, else calls text.
func (s *session) result(c *cli.Command, v any, records *render.Records, text func(width int)) error {
	switch c.String("format") {
	case "text":
		width := s.width()
		if c.Bool("wide") {
			width = 0
		}
		text(width)
		return nil
	case "csv":
		if c.Bool("guard") {
			records.Guard()
		}
		return records.Write(s.raw)
	}
	out := json.NewEncoder(s.raw)
	out.SetIndent("", "  ")
	out.SetEscapeHTML(false)
	return out.Encode(v)
}

// width is that of the terminal, 0 if the output goes elsewhere.
func (s *session) width() int {
	if f, ok := s.raw.(*os.File); ok {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil {
			return width
		}
	}
	return 0
}
