package star

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
)

// Section is a part of the model file with its entries, for the reference.
type Section struct {
	Title   string // where it stands, NAME standing for a name of one's own
	Doc     string
	Entries []Entry
}

// Sections lists all sections of a model file in the order of the reference.
func Sections() []Section {
	r, m := newReader("", "", nil), &Model{}
	return []Section{
		{"model", "The model file.", r.modelEntries(m)},
		{"warehouse", "The database of the star.", r.warehouseEntries(&Warehouse{})},
		{"warehouses.NAME", "A database of the star under a name.", r.warehouseEntries(&Warehouse{})},
		{"lineage", "Run events of OpenLineage, the open standard: one when a step begins and one when it ends, with the columns of what it reads and writes, the columns of which each column is made, and the numbers of rows. A dry run tells nobody.", r.lineageEntries(&Lineage{})},
		{"ledger", "What the ledger keeps.", r.ledgerEntries(m)},
		{
			"limits",
			"The limits at which a step of more than 100 rows stops. At the top of the model they apply to all steps; in a dimension or a fact they apply to its step.",
			r.limitEntries(&Limits{}),
		},
		{"notify.NAME", "A program or a web service that is told how a load ended. A dry run tells nobody.", r.noticeEntries(&Notice{})},
		{"parameters.NAME", "A parameter with a default.", r.parameterEntries(&Parameter{})},
		{
			"databases.NAME",
			"A database to read from. What the connection string leaves out comes from the environment: PG* variables, or MYSQL_PWD for the password.",
			r.databaseEntries(&Database{}),
		},
		{
			"sources.NAME",
			"Rows from files (read), from a database (table or query), or from other sources (from or union). They are transformed in the order of the keys in this table.",
			r.sourceEntries(&Source{}),
		},
		{
			"sources.NAME.columns.NAME",
			"A column with another name in its source, or with a position.",
			r.columnEntries(&Column{}),
		},
		{"defaults.FOLDER", "What holds for all sources of a folder. The keys mean what they mean in a source.", r.defaultEntries(&Source{})},
		{"sources.NAME.columns.NAME.unfit", "The value instead of one that does not fit its type.", r.unfitEntries(&Column{})},
		{"sources.NAME.of_file.NAME", "A column that is a part of the path of the file.", r.partEntries(&OfFile{})},
		{"sources.NAME.csv", "The format of CSV files.", r.csvEntries(&CSV{})},
		{"sources.NAME.csv.header", "Where the header of CSV files is, if it is not their first line.", r.headerEntries(&Header{})},
		{"sources.NAME.unpivot", "Columns that become rows. It is done once the columns are read, before anything else.", r.unpivotEntries(&Unpivot{})},
		{"sources.NAME.split", "A list in a text that becomes rows. It is done once the columns are read or taken from other sources, before anything else.", r.splitEntries(&Split{})},
		{"sources.NAME.events", "Which events of iCalendar files are read.", r.eventEntries(&Source{})},
		{
			"sources.NAME.join.NAME",
			"Columns of another source. A join neither multiplies nor loses rows unnoticed: it finds one row for each row, or a rule applies.",
			r.joinEntries(&Join{}),
		},
		{
			"sources.NAME.distinct",
			"One row for each value of some columns. The others are counted as merged.",
			r.distinctEntries(&Distinct{}),
		},
		{"sources.NAME.weights", "Weights of rows that are lists of members: a bridge. Of a list without a share above zero, or with one below, the weights are null.", r.weightEntries(&Weights{})},
		{"sources.NAME.periods", "Rows of periods: a periodic snapshot. A row of it stands where its last movement or its observation does.", r.periodEntries(&Periods{})},
		{"sources.NAME.spans", "Lists with spans of time, such as the owners of vessels, cut where one of their rows begins or ends: within each span that is left, a list has the same rows. Spans that follow each other with the same rows are one.", r.spanEntries(&Spans{})},
		{"sources.NAME.pivot", "Rows that become columns.", r.pivotEntries(&Pivot{})},
		{
			"sources.NAME.group",
			"One row for all rows that are equal in some columns. It has those columns and the aggregates. Sums are exact; a sum that needs more than 64 bits (integer) or 38 digits (decimal) stops the step.",
			r.groupEntries(&Group{}),
		},
		{
			"dimensions.NAME",
			"A dimension: from a source, from rows in the model, of combinations, a calendar, or looked up.",
			r.dimensionEntries(&Dimension{}),
		},
		{
			"dimensions.NAME.surrogate_key",
			"The numbering of surrogate keys, for a warehouse with several models. It applies to keys that are not assigned yet.",
			r.numberEntries(&Dimension{}),
		},
		{
			"dimensions.NAME.special_members.NAME",
			"A special member, where it is not as usual. It applies to a member that is not there yet; only the label of one that is there changes.",
			r.specialEntries(&Special{}),
		},
		{
			"dimensions.NAME.looked_up",
			"A dimension that another program loads. Its validity is half-open and can have gaps; a time in a gap is outside.",
			r.lookedUpEntries(&LookedUp{}),
		},
		{
			"dimensions.NAME.adopts",
			"An existing table of the warehouse. The load that creates the table of the dimension fills it with the members of this table, under their keys, so that references stay right. The table is read once and not changed. Natural key and attributes are its columns of the same names; missing attributes are null.",
			r.adoptEntries(&Adopted{}),
		},
		{
			"dimensions.NAME.aliases",
			"Other natural keys of members. They apply in the source of the dimension and in every key that points to it. If an alias is a member when it is first listed, the two members are combined: the facts move, and `dim_NAME_alias` lists the lost keys. If the other natural key is not a member yet, the member is renamed and keeps its key.",
			r.aliasEntries(&Aliases{}),
		},
		{
			"dimensions.NAME.hierarchy",
			"Members with parents in the same dimension, to any depth. The table has the key of the parent and the level, which is 1 for members without a parent. The table `dim_NAME_closure` has a row for each member and each member above it, and one for each member with itself. If the dimension has versions, the keys are durable keys.",
			r.hierarchyEntries(&Hierarchy{}),
		},
		{
			"dimensions.NAME.matching.NAME",
			"The form in which a part of the natural key is compared, in the source of the dimension and in every key that points to it. A plain expression means {as: expression}.",
			r.matchingEntries(&Matching{}),
		},
		{
			"dimensions.NAME.calendar",
			"A row for each day, as a dimension or as a source (sources.NAME.calendar). See [the calendar](calendar.md).",
			r.calendarEntries(&Calendar{}),
		},
		{
			"dimensions.NAME.clock",
			"A row for each time of a day, as a dimension or as a source (sources.NAME.clock). A key by a timestamp or a time finds the time that it is in. The surrogate keys are hhmm, or hhmmss for seconds.",
			r.clockEntries(&Clock{}),
		},
		{
			"dimensions.NAME.calendar.fiscal_year",
			"The fiscal year.",
			r.fiscalEntries(&Calendar{}, new(bool)),
		},
		{
			"dimensions.NAME.calendar.week",
			"Weeks for the attributes of the set week.",
			r.weekEntries(&Calendar{}, new(*Name)),
		},
		{
			"dimensions.NAME.calendar.retail_year",
			"Years of 52 or 53 whole weeks.",
			r.retailEntries(&calendar.Retail{}),
		},
		{
			"dimensions.NAME.calendar.relative",
			"What is relative to a reference day, which a load sets.",
			r.relativeEntries(&Relative{}),
		},
		{
			"dimensions.NAME.calendar.working_days",
			"When people work.",
			r.regionEntries(&Calendar{}, &calendar.Region{}),
		},
		{
			"dimensions.NAME.calendar.regions.NAME",
			"When people work in a region.",
			r.regionEntries(&Calendar{}, &calendar.Region{}),
		},
		{
			"dimensions.NAME.calendar.working_days.holidays",
			"A holiday, or several of them.",
			r.holidayEntries(&holidayText{}),
		},
		{"facts.NAME", "A fact table.", r.factEntries(&Fact{})},
		{"facts.NAME.partition", "Parts of a fact's table in PostgreSQL and in Trino, by day, month or year, so that who asks for some days reads those parts alone.", r.partitionEntries(&partitionText{})},
		{"facts.NAME.words.NAME", "What a column means, in a source, a dimension or a fact. A plain text is its meaning.", r.wordEntries(&Words{})},
		{
			"facts.NAME.must_hold.NAME",
			"A condition of the table of a fact or a dimension, under a name. A plain condition means {every: condition}. Conditions use the columns of the table, keys by their names there.",
			r.mustEntries(&Must{}),
		},
		{
			"facts.NAME.keys.NAME",
			"A key. A plain column means {by: column}. The name of the key is that of its dimension, or another name with `dimension`: a role. Dimensions have keys, too (outriggers), without as_of and outside.",
			r.keyEntries(&Key{}, true),
		},
	}
}

func (r *reader) modelEntries(m *Model) []Entry {
	return []Entry{
		{"warehouse", "keys, or a name", "where the star is; or the name of one of `warehouses`, which holds unless a call names another one", true, func(n *node) { r.warehouse(m, n) }},
		{"warehouses", "names", "several places of the star, such as that of development and that of production: a call chooses one of them with `--warehouse`", false, func(n *node) {
			r.each(n, func(n *node) {
				w := Warehouse{named: r.name(n.key, n.path)}
				r.oneWarehouse(&w, n)
				m.warehouses = append(m.warehouses, w)
			})
		}},
		{"notify", "names", "who is told how a load ended: programs and web services. What cannot be told is said, and does not change how the load ended", false, func(n *node) {
			r.each(n, func(n *node) {
				x := &Notice{Name: r.name(n.key, n.path)}
				m.Notices = append(m.Notices, x)
				r.section(n, r.noticeEntries(x))
			})
		}},
		{
			"time_zone",
			"a zone's name, such as UTC",
			"the time zone of timestamps; without it, a timestamp with an offset is an error",
			false,
			func(n *node) { m.Zone = r.zone(n) },
		},
		{
			"parameters",
			"name: type",
			"values that differ from run to run: from `--set name=value`, else from the file of `--parameters`, else from IRONMONGER_SET_name in the environment, else the default. Commands that look at the loaded star (show, prove, strays, trace, erase, undo) take the value of the last run if there is no other. They are used as `{name}` in paths and `:name` in expressions. Instead of a type: keys",
			false,
			func(n *node) { m.Parameters = append(m.Parameters, r.readParameters(n)...) },
		},
		{"limits", "keys", "the limits of the steps", false, func(n *node) { r.section(n, r.limitEntries(&m.Limits)) }},
		{
			"execute",
			"in_process, in_warehouse",
			"where facts and dimensions are loaded that do not say so themselves: see facts. A dimension of files, or one that cannot be loaded in the warehouse, is loaded by the program then. Without it, the program chooses by where the source and the database are, and by how many rows there are; `ironmonger load --dry-run` says why",
			false,
			func(n *node) { m.execute = r.execution(n) },
		},
		{
			"undo",
			"3 runs or none",
			"for how many of the latest runs that wrote something it is kept what they changed, so that ironmonger undo can take " +
				"them back; the default is 3 runs",
			false,
			func(n *node) { m.Undo = r.runs(n) },
		},
		{"lineage", "keys", "who is told, as run events of OpenLineage, what steps read and write", false, func(n *node) { r.section(n, r.lineageEntries(&m.Lineage)) }},
		{"ledger", "keys", "how long the ledger keeps what it says of loads", false, func(n *node) { r.section(n, r.ledgerEntries(m)) }},
		{
			"databases",
			"names",
			"databases that sources read from; they are never written to",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					d := &Database{Name: r.name(n.key, n.path)}
					m.Databases = append(m.Databases, d)
					r.section(n, r.databaseEntries(d))
				})
			},
		},
		{
			"include",
			"a file or a list",
			"other files of the model, relative to its folder: `*` matches any characters of a name. They can have all of these keys but warehouse, time_zone, limits, lineage, ledger, undo and include; each name is used once",
			false,
			func(n *node) { r.include(n, m) },
		},
		{
			"defaults",
			"folder: keys",
			"what holds for all sources whose first path in `read` begins with a folder (`.` for all of them), unless the source says something else: sources of the same file, or of the files that this one includes",
			false,
			func(n *node) { r.folderDefaults(n) },
		},
		{"sources", "names", "the rows to load", false, func(n *node) {
			r.each(n, func(n *node) {
				s := &Source{Name: r.name(n.key, n.path), Files: Files{CSV: PlainCSV}}
				m.Sources = append(m.Sources, s)
				r.applyDefaults(n, s)
				r.section(n, r.sourceEntries(s))
			})
		}},
		{"dimensions", "names", "the dimensions; their tables are called dim_NAME", false, func(n *node) {
			r.each(n, func(n *node) {
				d := &Dimension{
					Name:     r.name(n.key, n.path),
					Identity: Identity{FirstKey: 1, KeyStep: 1},
					Changes:  Changes{FromStart: true},
					Limits:   unset,
				}
				m.Dimensions = append(m.Dimensions, d)
				r.section(n, r.dimensionEntries(d))
			})
		}},
		{"facts", "names", "the facts; their tables are called fact_NAME", false, func(n *node) {
			r.each(n, func(n *node) {
				f := &Fact{Name: r.name(n.key, n.path), Limits: unset, Repeated: AsideRepeated}
				m.Facts = append(m.Facts, f)
				r.section(n, r.factEntries(f))
			})
		}},
	}
}

func (r *reader) ledgerEntries(m *Model) []Entry {
	return []Entry{{
		"keep",
		"400 days or for_ever",
		"for how long all is kept that the ledger says of a run: the model, the reasons, the strays and the examples. Of older runs it keeps the runs and their steps with the numbers of their rows and the totals of their measures, for ever. The default is for_ever",
		false,
		func(n *node) {
			if w, ok := r.word(n, "a time"); ok && w.Text == "for_ever" {
				m.Keep = 0
			} else {
				m.Keep = r.duration(n)
			}
		},
	}}
}

// unset marks limits that the section does not say.
var unset = Limits{-2, -2, -2, -2, -2, -2, ""}

func (r *reader) limitEntries(l *Limits) []Entry {
	return []Entry{
		{
			"set_aside",
			"20% or none",
			"the most rows that may be set aside, as a share of the rows read; the default is 20%",
			false,
			func(n *node) { l.SetAside = r.share(n) },
		},
		{
			"unmatched",
			"20% or none",
			"the most rows whose key is unmatched, for each key whose dimension has a source; the default is 20%",
			false,
			func(n *node) { l.Unmatched = r.share(n) },
		},
		{
			"gone",
			"10% or none",
			"the most members or facts that may be gone in a delivery of all or in a file, as a share of those of its scope that were there; the default is 10%",
			false,
			func(n *node) { l.Gone = r.share(n) },
		},
		{
			"fewer_than_usual",
			"50% or none",
			"the least rows that a step reads, as a share of what it usually reads: the middle one of its last ten loads that read any. The default is none. A step that reads nothing, since nothing is new, does not stop",
			false,
			func(n *node) { l.Usual = r.share(n) },
		},
		{
			"time",
			"30 min or none",
			"how long a step may take before it stops; the default is none",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a time"); ok && w.Text == "none" {
					l.Time = NoLimit
				} else {
					l.Time = r.duration(n)
				}
			},
		},
		{
			"retries",
			"a number from 0",
			"how often a step begins again that failed of what may be gone by itself: a connection that was lost or refused, a lock. It waits a second, then four times as long each time; the default is 0",
			false,
			func(n *node) { l.Retries = int64(r.count(n, 0, 10)) },
		},
		{
			"set_aside_counts_as",
			"done or broken",
			"what a load comes to that sets rows aside: done (the default), or broken: all is kept, and the load ends with status 3",
			false,
			func(n *node) { l.AsideBreak = r.choice(n, CountsAsDone, CountsAsBroken) },
		},
	}
}

// runs reads a number of runs.
func (r *reader) runs(n *node) int {
	w, ok := r.word(n, "a number of runs")
	if !ok || w.Text == "none" {
		return 0
	}
	number, _ := strings.CutSuffix(strings.TrimSuffix(w.Text, "s"), " run")
	v, err := strconv.Atoi(number)
	if err != nil || v < 1 || v > mostUndo || number == w.Text {
		r.errorf(w.At, n.path, "%s is not a number of runs: write 3 runs, or none", w.Text)
	}
	return v
}

// mostUndo is for how many runs at most it is kept what they changed.
const mostUndo = 1000

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
	return append([]Entry{
		{"from", "a source", "the source of its members", false, word(&d.text.from)},
		{
			"rows",
			"a list of rows",
			"the members of a static dimension",
			false,
			func(n *node) { r.staticRows(d, n) },
		},
		{
			"columns",
			"name: type",
			"the types of the columns of rows; the default is text",
			false,
			func(n *node) { r.rowsOf(d).columns = r.columns(n) },
		},
		{
			"combinations",
			"name: type",
			"makes it a junk dimension: its members are the combinations of values of these columns that occur in the tables that point to it; null is a value",
			false,
			func(n *node) {
				d.Junk, d.text.combinations = true, r.columns(n)
			},
		},
		{
			"looked_up",
			"keys",
			"a table that another program loads; nothing is written to it",
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
			d.text.calendar = calendarSource(d)
			r.calendar(n, d.text.calendar.Calendar)
		}},
		{"clock", "keys", "makes it a dimension of the times of a day", false, func(n *node) {
			d.text.clock = &Source{
				Name: Name{"clock " + d.Text, d.At}, Clock: &Clock{}, text: sourceText{subject: "dimensions." + d.Text},
			}
			r.clock(n, d.text.clock.Clock)
		}},
		{
			"natural_key",
			"a column or a list",
			"the columns by which the source identifies a member",
			false,
			words(&d.text.naturalKey),
		},
		{
			"matching",
			"name: expression",
			"the form in which columns of the natural key are compared",
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
			"other natural keys of members: of another registry, of a duplicate, or from before it was renamed",
			false,
			func(n *node) {
				d.Aliases = &Aliases{at: n.key.At}
				r.section(n, r.aliasEntries(d.Aliases))
			},
		},
		{"keys", "name: key", "outriggers: the dimensions that it points to", false, func(n *node) {
			r.each(n, func(n *node) { d.Keys = append(d.Keys, r.key(n, false)) })
		}},
		{
			"type_0",
			"a column or a list",
			"attributes that keep the first value: that of the earliest row by effective time or, without one, by arrival",
			false,
			words(&d.text.type0),
		},
		{
			"type_1",
			"a column or a list",
			"attributes that are overwritten; without it and `others`, all columns that are used nowhere else",
			false,
			words(&d.text.type1),
		},
		{
			"type_2",
			"a column or a list",
			"attributes whose changes make a new version; also keys of the dimension that point to a dimension without versions",
			false,
			words(&d.text.type2),
		},
		{
			"type_3",
			"a column or a list",
			"attributes that are overwritten; previous_NAME has the value before the last change",
			false,
			words(&d.text.type3),
		},
		{
			"with_current",
			"a column or a list",
			"type 2 attributes whose current value all versions have, in current_NAME",
			false,
			words(&d.text.current),
		},
		{
			"others",
			"type_0, type_1, type_2 or type_3",
			"the type of all columns that are used nowhere else",
			false,
			func(n *node) { d.text.others = r.choice(n, "type_0", "type_1", "type_2", "type_3") },
		},
		{
			"special_members",
			"member: label, or keys",
			"other labels and keys of the special members unknown, not_yet and not_applicable",
			false,
			func(n *node) { r.specials(n, d) },
		},
		{
			"execute",
			"in_process, in_warehouse",
			"where the dimension is loaded: the program reads all rows, or the warehouse makes new members and their versions of rows that stand in its own database, or that the program has read from files and sent there, and the program reads those rows alone that need a second look, and those that change members. The result is the same",
			false,
			func(n *node) { d.execute = r.execution(n) },
		},
		{
			"surrogate_key",
			"keys",
			"the numbering of surrogate keys; the default is 1, 2, 3",
			false,
			func(n *node) {
				d.text.numbered = true
				r.section(n, r.numberEntries(d))
			},
		},
		{
			"durable_key",
			"kept",
			"members also have NAME_durable_key, which is the same for all versions: the key of the first row of the member. Facts can have both",
			false,
			func(n *node) { d.Durable, d.text.durableAt = r.choice(n, "kept") != "", n.key.At },
		},
		{
			"effective",
			"a date or timestamp column",
			"the time from which a row describes its member; required for versions",
			false,
			word(&d.text.effective),
		},
		{
			"sequence",
			"a column",
			"decides between rows of one member and one effective time: the greatest wins. Without it, the later row in order wins",
			false,
			word(&d.text.sequence),
		},
		{
			"late_rows",
			"fit_in or set_aside",
			"what happens to a row that is older than what an earlier load brought of its member: it takes its place in the history, and facts are pointed again (fit_in, the default), or it is set aside",
			false,
			func(n *node) {
				d.RefuseLate, d.text.lateAt = r.choice(n, "fit_in", "set_aside") == "set_aside", n.key.At
			},
		},
		{
			"first_version",
			"from_beginning or from_effective",
			"whether the first version of a member is valid for earlier times, too; the default is from_beginning",
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
			"adopts",
			"keys",
			"an existing table, with whose members and keys the dimension starts",
			false,
			func(n *node) {
				d.Adopts = &Adopted{at: n.key.At}
				r.section(n, r.adoptEntries(d.Adopts))
			},
		},
		{
			"personal",
			"a column or a list",
			"attributes with personal data, which ironmonger erase blanks",
			false,
			words(&d.text.personal),
		},
		{
			"must_hold",
			"reason: condition",
			"conditions of its table",
			false,
			func(n *node) { d.MustHold = r.musts(n) },
		},
		{"limits", "keys", "the limits of its step", false, func(n *node) { r.section(n, r.limitEntries(&d.Limits)) }},
	}, append(r.deliveryEntries(&d.text.deliveries, memberDeliveries), r.describedEntries(&d.Said)...)...)
}

// deliveryWords are the words in which the model speaks of deliveries of members or of facts.
type deliveryWords struct {
	delivers, gone []string
	what           string
	does           string
	on             string
}

var (
	memberDeliveries = deliveryWords{
		delivers: []string{"changes", "all"},
		gone:     []string{"keep", "flag", "close"},
		what:     "whether the source delivers changes (the default), or all members, so that a missing member is gone",
		does: "what happens to a member that is gone: nothing (keep, the default); the mark is_gone; or a new version with " +
			"the mark, from the time of the delivery",
		on: "; required for close",
	}
	factDeliveries = deliveryWords{
		delivers: []string{"changes", "files", "all"},
		gone:     []string{"keep", "flag", "remove", "reverse"},
		what: "whether the source delivers changes (the default); files that have all rows that came from them, so that a " +
			"row that was taken out of its file is gone; or all rows, so that a missing row is gone",
		does: "what happens to a row that is gone: nothing (keep, the default); the mark is_gone; it moves from the " +
			"table to fact_NAME_removed; or, with `repeated: reverse`, a row that reverses it is added",
	}
)

func (r *reader) deliveryEntries(t *deliveriesText, words deliveryWords) []Entry {
	list := func(options []string) string {
		last := len(options) - 1
		return strings.Join(options[:last], ", ") + " or " + options[last]
	}
	return []Entry{
		{
			"delivers",
			list(words.delivers),
			words.what,
			false,
			func(n *node) { t.delivers = r.choice(n, words.delivers...) },
		},
		{"gone", list(words.gone), words.does, false, func(n *node) { t.gone = r.choice(n, words.gone...) }},
		{
			"complete_for",
			"a column or a list",
			"limits a delivery to its scope: only what is equal to one of its rows in these columns can be gone",
			false,
			func(n *node) { t.completeFor = r.words(n, "a column") },
		},
		{
			"delivered_on",
			"a column",
			"the time at which a row was delivered, so that several deliveries can be read at once" + words.on,
			false,
			func(n *node) {
				if w, ok := r.word(n, "a name"); ok {
					t.deliveredOn = &w
				}
			},
		},
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
			"the time from which a row is valid, if a natural key has several rows; null means always. Without it, all rows are valid for all time",
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
			"the columns with the natural key of the parent, in its order, of type 1 or of the natural key; null if there is no parent",
			true,
			func(n *node) { h.above = r.words(n, "a column") },
		},
		{
			"unmatched",
			"unknown or stop",
			"what happens if no member has that natural key: the parent is Unknown (the default), or the step stops",
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
		{"start", "a number from 1", "the first key; the default is 1", false, number(&d.FirstKey, 1)},
		{"step", "a number from 1", "the distance to the next key; the default is 1", false, number(&d.KeyStep, 1)},
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

func (r *reader) factEntries(f *Fact) []Entry {
	return append([]Entry{
		{"from", "a source", "the source of its rows", true, func(n *node) {
			if w, ok := r.word(n, "a source"); ok {
				f.from = &w
			}
		}},
		{
			"grain",
			"a column or key, or a list",
			"the columns and keys that identify a row. The columns are kept in the table",
			true,
			func(n *node) { f.grain = r.words(n, "a column or key") },
		},
		{"keys", "name: key", "the dimensions that it points to", false, func(n *node) {
			r.each(n, func(n *node) { f.Keys = append(f.Keys, r.key(n, true)) })
		}},
		{
			"measures",
			"a column or a list",
			"the measures: numbers",
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
			"repeated",
			"set_aside, replace, reverse, complete, sum, keep, stop",
			"what happens to a row whose grain is there already with other values: set it aside (the default), let the later row replace the earlier one, leave the earlier one and add a row that reverses it and then the later row, let it fill or change the columns that complete lists, add up the measures of the rows of one load, keep what is there, or stop the step",
			false,
			func(n *node) {
				f.Repeated = Repeated(r.choice(
					n,
					string(AsideRepeated),
					string(ReplaceRepeated),
					string(ReverseRepeated),
					string(CompleteRepeated),
					string(SumRepeated),
					string(KeepRepeated),
					string(StopRepeated),
				))
			},
		},
		{
			"execute",
			"in_process, in_warehouse",
			"where the fact is loaded: the program reads all rows, or the warehouse loads rows that stand in its own database, or that the program has read from files and sent there, by statements of its own, and the program takes those alone that need a second look. The result is the same",
			false,
			func(n *node) { f.execute = r.execution(n) },
		},
		{
			"partition",
			"keys",
			"how the table is divided in PostgreSQL and in Trino. It is for a table that a load makes; one that stands stays as it is until it is rebuilt. SQLite has no partitions",
			false,
			func(n *node) { r.partition(n, f) },
		},
		{
			"newer_by",
			"a column",
			"with `repeated: replace`, `reverse` or `complete`, the column that says which of two rows is newer: an integer, a decimal, a date or a timestamp. It is kept in the table. Without it, the row that arrived later is newer",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a column"); ok {
					f.newerBy = &w
				}
			},
		},
		{
			"booked_on",
			"a column",
			"with `repeated: reverse`, a date: the day on which what a row says is booked. Without it, that is the day of the run, in UTC",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a column"); ok {
					f.bookedOn = &w
				}
			},
		},
		{
			"must_hold",
			"reason: condition",
			"conditions of its table",
			false,
			func(n *node) { f.MustHold = r.musts(n) },
		},
		{
			"newest",
			"column: time",
			"how old the newest value of a date or timestamp of the table may be when a load begins: `passed_at: 2 days`. If it is older, all is kept, and the load ends with status 3. A date is as old as its last moment",
			false,
			func(n *node) { f.Newest = r.newest(n) },
		},
		{"limits", "keys", "the limits of its step", false, func(n *node) { r.section(n, r.limitEntries(&f.Limits)) }},
	}, append(slices.Concat(r.completionEntries(f), r.additiveEntries(&f.Additive), r.describedEntries(&f.Said), r.deliveryEntries(&f.deliveries, factDeliveries)), Entry{
		"open_until",
		"a column",
		"with `delivers: all`, deliveries have the open facts only: one that has a value in this column is closed, and is not gone if a later delivery lacks it",
		false,
		func(n *node) {
			if w, ok := r.word(n, "a column"); ok {
				f.deliveries.until = &w
			}
		},
	})...)
}

// completionEntries are those of a fact that later rows complete.
func (r *reader) completionEntries(f *Fact) []Entry {
	p := func() *Completion {
		if f.Completion == nil {
			f.Completion = &Completion{}
		}
		return f.Completion
	}
	return []Entry{
		{
			"complete",
			"a column or key, or a list",
			"with `repeated: complete`, what later rows fill or change: dates and timestamps (milestones, with the keys " +
				"that are made of them), other columns, and keys. A row with another value elsewhere is set aside",
			false,
			func(n *node) { p().parts, p().at = r.words(n, "a column or key"), n.key.At },
		},
		{
			"rows_tell",
			"parts or all",
			"whether a row without a milestone does not tell it (parts, the default), or says that it is not reached (all)",
			false,
			func(n *node) { p().TellAll, p().at = r.choice(n, "parts", "all") == "all", n.key.At },
		},
		{
			"lags",
			"name: lag",
			"times between two dates or timestamps, which are worked out again when either changes",
			false,
			func(n *node) {
				p().at = n.key.At
				r.each(n, func(n *node) {
					l := &Lag{Name: r.name(n.key, n.path), In: Days}
					r.section(n, r.lagEntries(l))
					f.Completion.Lags = append(f.Completion.Lags, l)
				})
			},
		},
		{
			"in_order",
			"a list of columns",
			"dates or timestamps none of which may be before one that is listed earlier: a row that would make it so is set aside",
			false,
			func(n *node) { p().inOrder, p().at = r.words(n, "a column"), n.key.At },
		},
	}
}

func (r *reader) lagEntries(l *Lag) []Entry {
	end := func(to *Name) func(n *node) {
		return func(n *node) { *to, _ = r.word(n, "a column") }
	}
	return []Entry{
		{"from", "a column", "the date or timestamp at which it starts", true, end(&l.from)},
		{"to", "a column", "the date or timestamp at which it ends; the lag is null while either is", true, end(&l.to)},
		{
			"in",
			"days, working_days, hours or minutes",
			"days (the default) are whole: the difference of the calendar days. Working days are the difference of the numbers of the working " +
				"days up to the two days; the lag is null if the calendar lacks one of them, and is counted again if the holidays change. " +
				"Hours and minutes are decimals with six places",
			false,
			func(n *node) {
				l.In = Unit(r.choice(n, string(Days), string(WorkingDays), string(Hours), string(Minutes)))
			},
		},
		{
			"calendar",
			"a dimension",
			"the calendar whose working days count, if several have them",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a dimension"); ok {
					l.calendar = &w
				}
			},
		},
		{
			"region",
			"a region",
			"the region of the calendar whose working days count",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a region"); ok {
					l.region = &w
				}
			},
		},
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
			"the columns with the natural key: matched by name if the names are the same, else by position, or pair by pair",
			false,
			func(n *node) { r.by(k, n) },
		},
		{
			"member",
			"a natural key, a list, or unknown",
			"instead of by: the member to which all rows point, by its natural key, or one of unknown, not_yet, not_applicable and unreadable",
			false,
			func(n *node) { k.member = r.words(n, "a value") },
		},
		{
			"dimension",
			"a dimension",
			"the dimension, if the key has a name of its own",
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
			"what happens if no member has the natural key. The default is infer (make the member) if the dimension has a source, else set_aside. With unknown, leave_empty, not_yet and not_applicable, the fact points to the member once it comes",
			false,
			outcome(&k.Unmatched, Infer, ToUnknown, SetAside, Stop, LeaveEmpty, ToNotYet, NotApplying),
		},
		{
			"missing",
			"unknown, set_aside, stop, leave_empty, not_yet, not_applicable",
			"what happens if a part of the natural key is null; the default is unknown",
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
				"the time whose version the key points to; without it, the current version. A row with the natural key but no time is set aside",
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
				"what happens if the member has no version at that time; the default is nearest",
				false,
				outcome(&k.Outside, Nearest, ToUnknown, SetAside, Stop),
			},
			Entry{
				"again",
				"compare or keep",
				"when a row comes again: the member must be the same (compare, the default), or the key stays as it was loaded (keep), as for keys that come by a join",
				false,
				func(n *node) {
					k.Again = r.choice(n, "compare", "keep") != "keep"
				},
			},
			Entry{
				"holds",
				"version or both",
				"which keys of the member the fact has: that of the version (the default), or its durable key, too",
				false,
				func(n *node) {
					k.Both, k.holds = r.choice(n, "version", "both") == "both", &n.key
				},
			},
		)
	}
	return entries
}

// execution reads where facts are loaded.
func (r *reader) execution(n *node) *Name {
	return &Name{Text: r.choice(n, string(InProcess), string(InWarehouse)), At: n.key.At}
}
