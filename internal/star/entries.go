package star

import (
	"strconv"
	"time"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
	"ironmonger/internal/parse"
)

// Section is a part of the model file with its entries, for the reference.
type Section struct {
	Title   string // where it stands, NAME standing for a name of one's own
	Doc     string
	Entries []Entry
}

// Sections lists all sections of a model file in the order of the reference.
func Sections() []Section {
	r, m := &reader{}, &Model{}
	return []Section{
		{"model", "The whole file.", r.modelEntries(m)},
		{"warehouse", "Where the star stands.", r.warehouseEntries(m)},
		{
			"limits",
			"When a step of more than 100 rows stops instead of going on with few of them. Stands at the top for all steps, or in a dimension or fact for its own.",
			r.limitEntries(&Limits{}),
		},
		{"parameters.NAME", "A parameter with a default.", r.parameterEntries(&Parameter{})},
		{
			"databases.NAME",
			"A database to read from. What a model leaves out of a connection comes from the environment: PG* variables, or MYSQL_PWD for the password.",
			r.databaseEntries(&Database{}),
		},
		{
			"sources.NAME",
			"Rows that arrive: from files (read), from a database (table or query), or made of other sources (from or union). They are shaped in the order in which the keys stand here.",
			r.sourceEntries(&Source{}),
		},
		{
			"sources.NAME.columns.NAME",
			"A column that is called otherwise where it is read, or told by its position.",
			r.columnEntries(&Column{}),
		},
		{"sources.NAME.csv", "How files are written.", r.csvEntries(&CSV{})},
		{
			"sources.NAME.join.NAME",
			"Columns of another source. A join neither multiplies rows nor loses them unnoticed: for each row it finds one row there, or a rule says what becomes of it.",
			r.joinEntries(&Join{}),
		},
		{
			"sources.NAME.distinct",
			"One row for each value of some columns; the others are counted as merged.",
			r.distinctEntries(&Distinct{}),
		},
		{
			"sources.NAME.group",
			"One row for all that are equal in some columns. It has those columns and the aggregates, exact, and an error where a sum needs more than its type has (integer: 64 bits; decimal: 18 digits, or 38).",
			r.groupEntries(&Group{}),
		},
		{
			"dimensions.NAME",
			"A dimension: from a source, of rows written here, of combinations, a calendar, or one that is only looked up in.",
			r.dimensionEntries(&Dimension{}),
		},
		{
			"dimensions.NAME.surrogate_key",
			"How surrogate keys are numbered, for a warehouse where several models give keys. What is said here counts for keys that are yet to be given.",
			r.numberEntries(&Dimension{}),
		},
		{
			"dimensions.NAME.looked_up",
			"A dimension that somebody else has made. Where it has versions, its validity is half-open, and may leave gaps: those times are outside.",
			r.lookedUpEntries(&LookedUp{}),
		},
		{
			"dimensions.NAME.adopts",
			"A table of the warehouse that stood before. The load that makes the dimension's table fills it with that table's members, under their keys, so that what points to them goes on doing so; it is read once, and not changed. Natural key and attributes are its columns of the same names; attributes that it lacks are null.",
			r.adoptEntries(&Adopted{}),
		},
		{
			"dimensions.NAME.aliases",
			"Other natural keys of members, wherever they are met: in the dimension's own source and in every key that points to it. If an alias is a member of its own when it is listed first, the two are merged: the facts move, and the lost keys are written down in `dim_NAME_alias`. If what it means is not a member yet, the member is renamed and keeps its key.",
			r.aliasEntries(&Aliases{}),
		},
		{
			"dimensions.NAME.hierarchy",
			"Members that have parents in the same dimension, to any depth. The table has the parent's key and the level, 1 for those without a parent; the table `dim_NAME_closure` has a row for each member and each that stands above it, and one for each with itself. Of a dimension with versions, durable keys are meant.",
			r.hierarchyEntries(&Hierarchy{}),
		},
		{
			"dimensions.NAME.matching.NAME",
			"How a part of the natural key is brought to one form, in the dimension's own source and in every key that points to it. A plain expression is short for {as: expression}.",
			r.matchingEntries(&Matching{}),
		},
		{"dimensions.NAME.calendar", "A row a day.", r.calendarEntries(&calendar.Calendar{})},
		{
			"dimensions.NAME.calendar.fiscal_year",
			"When the fiscal year starts, and what number it has.",
			r.fiscalEntries(&calendar.Calendar{}, new(bool)),
		},
		{"facts.NAME", "A fact table.", r.factEntries(&Fact{})},
		{
			"facts.NAME.must_hold.NAME",
			"Something that must hold of the table of a fact or dimension, under a name that says it. A plain condition is short for {every: condition}. Conditions are about the table's columns, keys as they are called there.",
			r.mustEntries(&Must{}),
		},
		{
			"facts.NAME.keys.NAME",
			"A foreign key. A plain column is short for {by: column}. The key is named for its dimension, or has a name of its own and says dimension: a role. Dimensions take keys too (outriggers), without as_of and outside.",
			r.keyEntries(&Key{}, true),
		},
	}
}

func (r *reader) modelEntries(m *Model) []Entry {
	return []Entry{
		{"warehouse", "keys", "where the star stands", true, func(n *node) { r.warehouse(m, n) }},
		{
			"time_zone",
			"a zone's name, such as UTC",
			"whose wall clock timestamps show; without it a timestamp with an offset is refused",
			false,
			func(n *node) { m.Zone = r.zone(n) },
		},
		{
			"parameters",
			"name: type",
			"what a run is told, by `--set name=value`, else in a file that `--parameters` names, else by IRONMONGER_SET_name in the environment: `{name}` in paths, `:name` in expressions. In place of a type, keys",
			false,
			func(n *node) { m.Parameters = r.readParameters(n) },
		},
		{"limits", "keys", "when a step stops", false, func(n *node) { r.section(n, r.limitEntries(&m.Limits)) }},
		{
			"databases",
			"names",
			"databases that sources read from; nothing is ever written there",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					d := &Database{Name: r.name(n.key, n.path)}
					m.Databases = append(m.Databases, d)
					r.section(n, r.databaseEntries(d))
				})
			},
		},
		{"sources", "names", "what arrives", false, func(n *node) {
			r.each(n, func(n *node) {
				s := &Source{Name: r.name(n.key, n.path), Files: Files{CSV: PlainCSV}}
				m.Sources = append(m.Sources, s)
				r.section(n, r.sourceEntries(s))
			})
		}},
		{"dimensions", "names", "the dimensions; tables are called dim_NAME", true, func(n *node) {
			r.each(n, func(n *node) {
				d := &Dimension{Name: r.name(n.key, n.path), FromStart: true, Limits: unset, FirstKey: 1, KeyStep: 1}
				m.Dimensions = append(m.Dimensions, d)
				r.section(n, r.dimensionEntries(d))
			})
		}},
		{"facts", "names", "the facts; tables are called fact_NAME", false, func(n *node) {
			r.each(n, func(n *node) {
				f := &Fact{Name: r.name(n.key, n.path), Limits: unset}
				m.Facts = append(m.Facts, f)
				r.section(n, r.factEntries(f))
			})
		}},
	}
}

// unset marks limits that the section does not say.
var unset = Limits{-2, -2, -2}

func (r *reader) warehouseEntries(m *Model) []Entry {
	w := &m.Warehouse
	kind := func(kind string, to *Name) func(n *node) {
		return func(n *node) {
			if w.Kind != "" {
				r.errorf(n.key.At, n.path, "a star stands in one warehouse: %s or %s", w.Kind, kind)
			}
			w.Kind = kind
			*to, _ = r.word(n, "where it is")
		}
	}
	return []Entry{
		{
			"sqlite",
			"a file",
			"an SQLite database, made if it is not there; seen from the model's folder",
			false,
			kind(SQLite, &w.path),
		},
		{
			"postgres",
			"a connection string",
			"a PostgreSQL database, such as `service=canal` or `host=db.example dbname=canal`; what it leaves out comes from PG* variables, the service file and the password file. A password has no place in a model",
			false,
			kind(Postgres, &w.connection),
		},
		{
			"schema",
			"a name",
			"the schema of the tables in PostgreSQL; public if not said",
			false,
			func(n *node) { w.schema, _ = r.word(n, "a name") },
		},
	}
}

// warehouse reads where the star stands.
func (r *reader) warehouse(m *Model, n *node) {
	r.section(n, r.warehouseEntries(m))
	w := &m.Warehouse
	switch {
	case w.Kind == "":
		r.errorf(n.key.At, n.path, "where does the star stand? sqlite: a file, or postgres: a connection string")
	case w.Kind == SQLite && w.schema.Text != "":
		r.errorf(n.key.At, n.path, "an SQLite database has no schemas")
	}
}

// place returns the warehouse the values of parameters: development and production are one model.
func (r *reader) place(m *Model) {
	w := &m.Warehouse
	if w.path.Text != "" {
		w.Path = r.fill(w.path, "warehouse.sqlite").Text
	}
	if w.Kind != Postgres {
		return
	}
	w.Connection, w.Schema = r.connect(w.connection, "warehouse.postgres"), "public"
	if w.schema.Text != "" {
		before := len(r.errs)
		if name := r.fill(w.schema, "warehouse.schema"); len(r.errs) == before {
			w.Schema = r.name(name, "warehouse.schema").Text
		}
	}
}

func (r *reader) limitEntries(l *Limits) []Entry {
	return []Entry{
		{
			"set_aside",
			"20% or none",
			"the most rows that may be set aside, as a share of the rows read; 20% if not said",
			false,
			func(n *node) { l.SetAside = r.share(n) },
		},
		{
			"unmatched",
			"20% or none",
			"the most rows whose key is unmatched, for each key whose dimension has a source; 20% if not said",
			false,
			func(n *node) { l.Unmatched = r.share(n) },
		},
		{
			"gone",
			"10% or none",
			"the most members that may be gone in a delivery of all, as a share of those of its scope that were there; 10% if not said",
			false,
			func(n *node) { l.Gone = r.share(n) },
		},
	}
}

func (r *reader) zone(n *node) *time.Location {
	w, ok := r.word(n, "a time zone's name")
	if !ok {
		return nil
	}
	zone, err := time.LoadLocation(w.Text)
	if err != nil || w.Text == "Local" || w.Text == "" {
		r.errorf(w.At, n.path, "no time zone is called %s: UTC, or Area/City as in the zone database", w.Text)
		return nil
	}
	return zone
}

func (r *reader) dimensionEntries(d *Dimension) []Entry {
	words := func(to *[]Name) func(n *node) { return func(n *node) { *to = r.words(n, "a column") } }
	word := func(to **Name) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, "a name"); ok {
				*to = &w
			}
		}
	}
	return []Entry{
		{"from", "a source", "where its members come from", false, word(&d.from)},
		{
			"rows",
			"a list of rows",
			"the members themselves, for a static dimension",
			false,
			func(n *node) { r.staticRows(d, n) },
		},
		{
			"columns",
			"name: type",
			"types of the columns of rows; text where not said",
			false,
			func(n *node) { r.rowsOf(d).columns = r.columns(n) },
		},
		{
			"combinations",
			"name: type",
			"makes it a junk dimension: its members are the combinations of values of these columns that occur in what points to it; null is a value here",
			false,
			func(n *node) {
				d.Junk, d.combinations = true, r.columns(n)
			},
		},
		{
			"looked_up",
			"keys",
			"a table that somebody else has made, and to which nothing is written",
			false,
			func(n *node) {
				d.LookedUp = &LookedUp{at: n.key.At}
				r.section(n, r.lookedUpEntries(d.LookedUp))
				if d.LookedUp.Several == "stop" {
					d.LookedUp.Several = ""
				}
			},
		},
		{"calendar", "keys", "makes it a date dimension", false, func(n *node) {
			d.Calendar, d.calendarAt = &calendar.Calendar{FiscalStart: 1}, n.key.At
			r.section(n, r.calendarEntries(d.Calendar))
		}},
		{"natural_key", "a column or a list", "what the source calls a member", false, words(&d.naturalKey)},
		{
			"matching",
			"name: expression",
			"for columns of the natural key, how they are brought to one form before they are compared",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					m := &Matching{Name: n.key}
					d.Matching = append(d.Matching, m)
					if n.Kind == yaml.MappingNode {
						r.section(n, r.matchingEntries(m))
					} else {
						m.As = r.expression(n, "an expression")
					}
				})
			},
		},
		{
			"aliases",
			"keys",
			"other natural keys of members: of another registry, of a member found to be the same, or from before it was renamed",
			false,
			func(n *node) {
				d.Aliases = &Aliases{at: n.key.At}
				r.section(n, r.aliasEntries(d.Aliases))
			},
		},
		{"keys", "name: key", "outriggers: the dimensions it points to", false, func(n *node) {
			r.each(n, func(n *node) { d.Keys = append(d.Keys, r.key(n, false)) })
		}},
		{
			"type_0",
			"a column or a list",
			"attributes that stay as they were at first: as the earliest row has them, by effective time or, without one, by arrival",
			false,
			words(&d.type0),
		},
		{
			"type_1",
			"a column or a list",
			"attributes that are overwritten; if neither it nor others is said, all columns that stand nowhere else here",
			false,
			words(&d.type1),
		},
		{
			"type_2",
			"a column or a list",
			"attributes whose changes make a new version; keys of the dimension, too, if they point to one without versions",
			false,
			words(&d.type2),
		},
		{
			"type_3",
			"a column or a list",
			"attributes that are overwritten, with what they were before their last change beside them, in previous_NAME",
			false,
			words(&d.type3),
		},
		{
			"with_current",
			"a column or a list",
			"type 2 attributes whose current value stands on all versions too, in current_NAME",
			false,
			words(&d.current),
		},
		{
			"others",
			"type_0, type_1, type_2 or type_3",
			"what all columns are that stand nowhere else here",
			false,
			func(n *node) { d.others = r.choice(n, "type_0", "type_1", "type_2", "type_3") },
		},
		{
			"surrogate_key",
			"keys",
			"how surrogate keys are numbered: 1, 2, 3 if not said",
			false,
			func(n *node) { r.section(n, r.numberEntries(d)) },
		},
		{
			"durable_key",
			"kept",
			"members have a key besides that is the same for all their versions, NAME_durable_key: that of the member's first row. Facts may hold both",
			false,
			func(n *node) { d.Durable, d.durableAt = r.choice(n, "kept") != "", n.key.At },
		},
		{
			"effective",
			"a date or timestamp column",
			"since when a row is so; versions need it",
			false,
			word(&d.effective),
		},
		{
			"sequence",
			"a column",
			"decides between rows of one member and one effective time: the greatest wins. If not said, the later in order",
			false,
			word(&d.sequence),
		},
		{
			"late_rows",
			"fit_in or set_aside",
			"what becomes of a row that is older than what an earlier load brought of its member: it takes its place in the history, and facts are pointed anew; or it is set aside. fit_in if not said",
			false,
			func(n *node) {
				d.RefuseLate, d.lateAt = r.choice(n, "fit_in", "set_aside") == "set_aside", n.key.At
			},
		},
		{
			"first_version",
			"from_beginning or from_effective",
			"whether a member's first version holds for earlier times too; from_beginning if not said",
			false,
			func(n *node) {
				d.FromStart = r.choice(n, "from_beginning", "from_effective") != "from_effective"
			},
		},
		{"hierarchy", "keys", "members have parents in the same dimension", false, func(n *node) {
			d.Hierarchy = &Hierarchy{Unmatched: ToUnknown, at: n.key.At}
			r.section(n, r.hierarchyEntries(d.Hierarchy))
		}},
		{
			"delivers",
			"changes or all",
			"whether a load brings what has changed, or all members there are, so that one which is missing is gone; changes if not said",
			false,
			func(n *node) { d.delivers = r.choice(n, "changes", "all") },
		},
		{
			"gone",
			"keep, flag or close",
			"what becomes of a member that is gone: nothing; a mark, is_gone; or a new version with it, from the time of the delivery. keep if not said",
			false,
			func(n *node) { d.gone = r.choice(n, "keep", "flag", "close") },
		},
		{
			"complete_for",
			"a column or a list",
			"what a delivery is complete for, where it is not for all: only members that are equal to one of its rows in these columns can be gone",
			false,
			words(&d.completeFor),
		},
		{
			"delivered_on",
			"a column",
			"says when a row was delivered, so that several deliveries may be read at once; close needs it",
			false,
			word(&d.deliveredOn),
		},
		{
			"adopts",
			"keys",
			"a table that stood before, whose members and keys the dimension begins with",
			false,
			func(n *node) {
				d.Adopts = &Adopted{at: n.key.At}
				r.section(n, r.adoptEntries(d.Adopts))
			},
		},
		{
			"personal",
			"a column or a list",
			"attributes that tell of a person, and that ironmonger erase blanks for good",
			false,
			words(&d.personal),
		},
		{
			"must_hold",
			"reason: condition",
			"what must hold of its table",
			false,
			func(n *node) { d.MustHold = r.musts(n) },
		},
		{"limits", "keys", "when its step stops", false, func(n *node) { r.section(n, r.limitEntries(&d.Limits)) }},
	}
}

func (r *reader) adoptEntries(a *Adopted) []Entry {
	word := func(to *string, what string) func(n *node) {
		return func(n *node) {
			w, _ := r.word(n, what)
			*to = w.Text
		}
	}
	return []Entry{
		{"table", "a name", "the table, in the schema of the warehouse", true, word(&a.Table, "a table")},
		{"key", "a column", "its surrogate key, an integer above 0", true, word(&a.Key, "a column")},
		{
			"valid_from",
			"a column",
			"since when a row holds, where a natural key has several; null is always. If not said, members were always so",
			false,
			word(&a.ValidFrom, "a column"),
		},
	}
}

func (r *reader) hierarchyEntries(h *Hierarchy) []Entry {
	return []Entry{
		{
			"parent",
			"a column or a list",
			"the columns of type 1, or of the natural key itself, that have the natural key of the parent, in its order; null if there is none",
			true,
			func(n *node) { h.above = r.words(n, "a column") },
		},
		{
			"unmatched",
			"unknown or stop",
			"what to do when no member has that natural key: the parent is Unknown, or the step stops; unknown if not said",
			false,
			func(n *node) {
				h.Unmatched = Outcome(r.choice(n, "unknown", "stop"))
			},
		},
	}
}

func (r *reader) numberEntries(d *Dimension) []Entry {
	number := func(to *int64, least int64) func(n *node) {
		return func(n *node) {
			w, ok := r.word(n, "a number")
			v, err := strconv.ParseInt(w.Text, 10, 64)
			if ok && (err != nil || v < least || v > mostKey) {
				r.errorf(w.At, n.path, "%s is not a number from %d to %d", w.Text, least, mostKey)
			} else if ok {
				*to = v
			}
		}
	}
	return []Entry{
		{"start", "a number from 1", "the first one; 1 if not said", false, number(&d.FirstKey, 1)},
		{"step", "a number from 1", "how far the next one is; 1 if not said", false, number(&d.KeyStep, 1)},
	}
}

// mostKey leaves room for as many keys again.
const mostKey = 1 << 40

func (r *reader) rowsOf(d *Dimension) *Rows {
	if d.Rows == nil {
		d.Rows = &Rows{}
	}
	return d.Rows
}

func (r *reader) staticRows(d *Dimension, n *node) {
	rows := r.rowsOf(d)
	if n.Kind != yaml.SequenceNode {
		r.errorf(r.at(n.Node), n.path, "expected a list of rows, each a line such as - {code: W1, name: Upper Cut}")
		return
	}
	for _, c := range n.Content {
		row := map[string]Name{}
		r.each(&node{Node: c, path: n.path}, func(n *node) {
			if n.Tag != "!!null" || n.Style != 0 { // a null is what isn't there
				if w, ok := r.word(n, "a value"); ok {
					row[n.key.Text] = w
				}
			}
			for _, c := range rows.columns {
				if c.Text == n.key.Text {
					return
				}
			}
			rows.columns = append(rows.columns, Column{Name: n.key, Type: column.Type{Kind: column.Text}})
		})
		rows.nodes = append(rows.nodes, row)
		rows.places = append(rows.places, r.at(c))
	}
}

func (r *reader) calendarEntries(c *calendar.Calendar) []Entry {
	day := func(to *int64) func(n *node) {
		return func(n *node) {
			col := column.Column{Type: column.Type{Kind: column.Date}}
			col.Resize(1)
			w, ok := r.word(n, "a date")
			if ok && parse.NewReader(nil).Set(&col, 0, w.Text) != nil {
				r.errorf(w.At, n.path, "%s is not a date such as 2025-03-31", w.Text)
			}
			*to = col.Int[0]
		}
	}
	return []Entry{
		{"from", "a date", "the first day", true, day(&c.From)},
		{"to", "a date", "the last day", true, day(&c.To)},
		{
			"closed",
			"true or false",
			"nothing comes after the last day: `prove` does not warn that it is near or past. false if not said",
			false,
			func(n *node) { c.Closed = r.choice(n, "true", "false") == "true" },
		},
		{
			"key",
			"yyyymmdd",
			"what the surrogate key looks like: 20250331; that is also the default",
			false,
			func(n *node) { r.choice(n, "yyyymmdd") },
		},
		{"fiscal_year", "keys", "the fiscal year; without it, the calendar year", false, func(n *node) {
			named := false
			r.section(n, r.fiscalEntries(c, &named))
			if !named && c.FiscalStart != 1 {
				r.errorf(
					n.key.At,
					n.path,
					"named_by is missing: does a fiscal year have the number of the year in which it starts (start) or ends (end)?",
				)
			}
		}},
	}
}

func (r *reader) fiscalEntries(c *calendar.Calendar, named *bool) []Entry {
	return []Entry{
		{"starts", "a month's name", "the month in which it starts", true, func(n *node) {
			w := r.choice(
				n,
				"january",
				"february",
				"march",
				"april",
				"may",
				"june",
				"july",
				"august",
				"september",
				"october",
				"november",
				"december",
			)
			for m := time.January; m <= time.December; m++ {
				if w == lowerMonth(m) {
					c.FiscalStart = int(m)
				}
			}
		}},
		{
			"named_by",
			"start or end",
			"which calendar year gives it its number; must be said unless it starts in January",
			false,
			func(n *node) {
				c.NamedByEnd, *named = r.choice(n, "start", "end") == "end", true
			},
		},
	}
}

func (r *reader) factEntries(f *Fact) []Entry {
	return []Entry{
		{"from", "a source", "where its rows come from", true, func(n *node) {
			if w, ok := r.word(n, "a source"); ok {
				f.from = &w
			}
		}},
		{
			"grain",
			"a column or key, or a list",
			"what one row is: no two rows have the same. Columns named here are kept in the table",
			true,
			func(n *node) { f.grain = r.words(n, "a column or key") },
		},
		{"keys", "name: key", "the dimensions it points to", false, func(n *node) {
			r.each(n, func(n *node) { f.Keys = append(f.Keys, r.key(n, true)) })
		}},
		{
			"measures",
			"a column or a list",
			"what is measured: numbers",
			false,
			func(n *node) { f.measures = r.words(n, "a column") },
		},
		{
			"degenerate",
			"a column or a list",
			"other columns to keep in the table",
			false,
			func(n *node) { f.degenerate = r.words(n, "a column") },
		},
		{
			"must_hold",
			"reason: condition",
			"what must hold of its table",
			false,
			func(n *node) { f.MustHold = r.musts(n) },
		},
		{"limits", "keys", "when its step stops", false, func(n *node) { r.section(n, r.limitEntries(&f.Limits)) }},
	}
}

func (r *reader) key(n *node, ofFact bool) *Key {
	k := &Key{Name: r.name(n.key, n.path), subject: n.path, Again: true}
	if n.Kind == yaml.MappingNode {
		r.section(n, r.keyEntries(k, ofFact))
	} else {
		r.by(k, n)
	}
	return k
}

func (r *reader) by(k *Key, n *node) {
	if n.Kind != yaml.MappingNode {
		for _, w := range r.words(n, "a column") {
			k.by = append(k.by, byName{column: w})
		}
		return
	}
	r.each(n, func(c *node) {
		if w, ok := r.word(c, "a column"); ok {
			k.by = append(k.by, byName{w, &c.key})
		}
	})
}

func (r *reader) keyEntries(k *Key, ofFact bool) []Entry {
	outcome := func(to *Outcome, options ...Outcome) func(n *node) {
		return func(n *node) {
			words := make([]string, len(options))
			for i, o := range options {
				words[i] = string(o)
			}
			*to = Outcome(r.choice(n, words...))
		}
	}
	entries := []Entry{
		{
			"by",
			"a column, a list, or natural: column",
			"the columns that have the natural key: matched by name if the names are the same, else by position, or said outright",
			true,
			func(n *node) { r.by(k, n) },
		},
		{
			"dimension",
			"a dimension",
			"the dimension, where the key is a role with a name of its own",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a dimension"); ok {
					k.dimension = &w
				}
			},
		},
		{
			"unmatched",
			"infer, unknown, set_aside, stop, leave_empty, not_yet, not_applicable",
			"what to do when no member has the natural key. If not said: infer (make the member) where the dimension has a source, else set_aside",
			false,
			outcome(&k.Unmatched, Infer, ToUnknown, SetAside, Stop, LeaveEmpty, ToNotYet, NotApplying),
		},
		{
			"missing",
			"unknown, set_aside, stop, leave_empty, not_yet, not_applicable",
			"what to do when a part of the natural key is null; unknown if not said",
			false,
			outcome(&k.Missing, ToUnknown, SetAside, Stop, LeaveEmpty, ToNotYet, NotApplying),
		},
	}
	if ofFact {
		entries = append(
			entries,
			Entry{
				"as_of",
				"a date or timestamp column",
				"the time whose version is meant; without it, the current one. A row that has the key but no time is set aside",
				false,
				func(n *node) {
					if w, ok := r.word(n, "a column"); ok {
						k.asOf = &w
					}
				},
			},
			Entry{
				"outside",
				"nearest, unknown, set_aside, stop",
				"what to do when the member has no version at that time; nearest if not said",
				false,
				outcome(&k.Outside, Nearest, ToUnknown, SetAside, Stop),
			},
			Entry{
				"again",
				"compare or keep",
				"when a row comes again: whether it has to have the same member, or what was loaded stays, whatever the row says now, as for keys that come by a join; compare if not said",
				false,
				func(n *node) {
					k.Again = r.choice(n, "compare", "keep") != "keep"
				},
			},
			Entry{
				"holds",
				"version or both",
				"which keys of the member the fact has: that of the version, or its durable key too; version if not said",
				false,
				func(n *node) {
					k.Both, k.holds = r.choice(n, "version", "both") == "both", &n.key
				},
			},
		)
	}
	return entries
}
