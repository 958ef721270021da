package load_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestAliases: a member that is renamed keeps its keys; two that are found to be one become one, whose history is
// that of both, and facts follow; the lost keys are written down and never given again; an alias is understood
// wherever it is met.
func TestAliases(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			warehouse := "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				warehouse = "postgres: " + connection + "\n  schema: " + schema
			}
			f := newYard(
				t,
				"sqlite: star.db",
				warehouse,
				"dimensions:\n",
				"  others:\n    read: others.csv\n    columns: {old: text, now: text}\ndimensions:\n",
				"    natural_key: reg\n",
				"    natural_key: reg\n    durable_key: kept\n    aliases: {from: others, alias: old, is: now}\n",
				"        as_of: at\n",
				"        as_of: at\n        holds: both\n",
			)
			alias := func(rows ...string) {
				startest.Write(t, f.dir, "others.csv", "old,now\n"+strings.Join(rows, "\n")+"\n")
			}
			alias()
			f.boats("A,Heron,x,2024-01-01", "B,Otter,y,2024-02-01", "B,Otter,z,2024-04-01", "C,Tern,x,2024-01-01")
			f.trips(
				"1,A,2024-01-10,1",
				"2,B,2024-02-10,2",
				"3,B,2024-04-10,3",
				"4,C,2024-01-10,4",
				"5,D,2024-01-10,5",
			)
			f.load()
			boats := func() string {
				return f.rows(
					"dim_boat",
					"reg",
					"boat_key",
					"boat_durable_key",
					"name",
					"class",
					"valid_from",
					"valid_to",
				)
			}
			trips := func() string { return f.rows("fact_trip", "trip", "boat_key", "boat_durable_key") }
			f.want("at first", trips(), "1 1 1\n2 2 2\n3 3 2\n4 4 4\n5 5 5")

			alias("C,K", "D,A", "B,D", "Z,Y") // C is renamed; D, which is inferred, and B by way of D are A
			f.trips(
				"1,A,2024-01-10,1",
				"2,B,2024-02-10,2",
				"3,B,2024-04-10,3",
				"4,C,2024-01-10,4",
				"5,D,2024-01-10,5",
				"6,B,2024-03-10,6",
				"7,K,2024-03-10,7",
				"8,Z,2024-03-10,8",
			)
			f.boats("A,Heron,x,2024-01-01", "B,Otter,y,2024-02-01", "C,Tern,x,2024-01-01", "B,Otter,w,2024-03-01")
			b := f.load()["dimension boat"]
			if b.Renamed != 1 || b.Combined != 2 || b.Versions != 2 || b.Same != 2 || b.Repointed["fact_trip"] == 0 {
				t.Errorf("merged: %+v", b)
			}
			f.want(
				"boats",
				boats(),
				strings.Join(
					[]string{
						"A 1 1 Otter x 1900-01-01 2024-02-01",
						"A 6 1 Otter z 2024-04-01 9999-12-31",
						"A 7 1 Otter y 2024-02-01 2024-03-01",
						"A 8 1 Otter w 2024-03-01 2024-04-01",
						"K 4 4 Tern x 1900-01-01 9999-12-31",
						"Y 9 9 ∅ ∅ 1900-01-01 9999-12-31",
						"∅ -1 -1 Unknown Unknown 1900-01-01 9999-12-31",
					},
					"\n",
				),
			)
			f.want("trips", trips(), "1 1 1\n2 7 1\n3 6 1\n4 4 4\n5 1 1\n6 8 1\n7 4 4\n8 9 9")
			f.want("lost keys", f.rows("dim_boat_alias", "alias_key", "boat_key"), "2 6\n3 6\n5 6")
			if !startest.Proved(t, f.dir) {
				t.Error("a right star is said to be broken")
			}
			before := startest.Dump(t, f.dir)
			if again := f.load()["dimension boat"]; again.Written()+again.Renamed+again.Combined != 0 {
				t.Errorf("again: %+v", again)
			}
			f.want("again", startest.Dump(t, f.dir), before)

			alias("C,K", "C,A")
			if _, err := startest.Load(t, f.dir, load.Options{}); err == nil {
				t.Error("an alias of two members passes")
			}
			alias("A,B", "B,A")
			f.fail("dimension boat", "comes round to itself")
			f.want("after failures", startest.Dump(t, f.dir), before)
		})
	}
}

// TestAliasesPure: whenever it is found that two members are one, the star is the one that would stand had it been
// known from the start, but for the numbers of keys (rule R8): versions, attributes of all types, and the versions
// of facts.
func TestAliasesPure(t *testing.T) {
	for seed := range uint64(startest.Runs(20)) {
		if !t.Run(strconv.Itoa(int(seed)), func(t *testing.T) { aliasCase(t, seed) }) {
			return
		}
	}
}

func aliasCase(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 17))
	changes := []string{
		"dimensions:\n",
		"  others:\n    read: others.csv\n    columns: {old: text, now: text}\ndimensions:\n",
		"    natural_key: reg\n",
		"    natural_key: reg\n    aliases: {from: others, alias: old, is: now}\n",
		"      name: text\n",
		"      name: text\n      hull: text\n      home: text\n",
		"    type_1: name\n",
		pick(
			r,
			"    type_1: name\n",
			"    type_1: [name, home]\n    type_0: hull\n",
			"    type_1: name\n    type_3: home\n    type_0: hull\n",
			"    type_1: name\n    type_3: [home, hull]\n",
		),
	}
	if r.IntN(3) == 0 {
		changes = append(changes, "    type_2: class\n", "    type_2: [class]\n    first_version: from_effective\n")
	} else if r.IntN(3) == 0 { // an effective time without versions
		changes = append(changes, "    type_2: class\n", "", "        as_of: at\n", "", "type_1: name", "type_1: [name, class]", "type_1: [name, home]", "type_1: [name, class, home]")
	}
	apply := func(f folder) {
		model := yard
		for i := 0; i < len(changes); i += 2 {
			model = strings.Replace(model, changes[i], changes[i+1], 1)
		}
		startest.Write(f, f.dir, "ironmonger.yaml", model)
	}
	var boats, trips []string
	days := r.Perm(28)
	for i := range 4 + r.IntN(20) { // no two of one time: of these it matters who was the alias
		boats = append(
			boats,
			fmt.Sprintf(
				"%s,%s,%s,%s,%s,2024-01-%02d",
				pick(r, "A", "B", "C"),
				pick(r, "Heron", "Otter"),
				pick(r, "oak", "elm"),
				pick(r, "Quay", "Wharf", "Pool"),
				pick(r, "x", "y"),
				1+days[i],
			),
		)
	}
	for n := range 20 {
		trips = append(trips, fmt.Sprintf("%d,%s,2024-01-%02d,1", n, pick(r, "A", "B", "C", "D"), 1+r.IntN(28)))
	}
	aliases := pick(r, "B,A\n", "A,B\n", "B,A\nD,B\n", "A,C\nB,C\n", "D,A\n", "B,N\nA,N\n", "A,N\n")
	cut, found := []int{
		len(boats) / (1 + r.IntN(2)),
		len(boats),
		len(boats),
	}, 1+r.IntN(
		2,
	) // late enough for something to merge
	star := func(loads []int, from int) string {
		f := folder{t, t.TempDir()}
		apply(f)
		done := 0
		for n, to := range loads {
			startest.Write(t, f.dir, "others.csv", "old,now\n")
			if n >= from {
				startest.Write(t, f.dir, "others.csv", "old,now\n"+aliases)
			}
			startest.Write(
				t,
				f.dir,
				"boats.csv",
				"reg,name,hull,home,class,since\n"+strings.Join(boats[done:to], "\n")+"\n",
			)
			done = to
			f.trips(trips[:len(trips)*(n+1)/len(loads)]...)
			f.load()
			if !startest.Proved(t, f.dir) {
				t.Fatal("a right star is said to be broken")
			}
		}
		key := map[string]string{}
		var lines []string
		for _, b := range startest.Star(t, f.dir)["dim_boat"] {
			key[b["boat_key"]] = b["reg"] + " " + b["effective_from"]
			lines = append(
				lines,
				fmt.Sprintln(
					b["reg"],
					b["name"],
					b["hull"],
					b["previous_hull"],
					b["home"],
					b["previous_home"],
					b["class"],
					b["effective_from"],
					b["valid_from"],
					b["valid_to"],
					b["is_inferred"],
				),
			)
		}
		for _, b := range startest.Star(t, f.dir)["fact_trip"] {
			lines = append(lines, b["trip"]+" "+key[b["boat_key"]])
		}
		slices.Sort(lines)
		return strings.Join(lines, "\n")
	}
	want, got := star([]int{len(boats)}, 0), star(cut, found)
	if want != got {
		t.Errorf(
			"found in load %d of %v that %s:\n%s\nboats:\n%s\n%v",
			found+1,
			cut,
			aliases,
			startest.Difference(want, got),
			strings.Join(boats, "\n"),
			changes,
		)
	}
}

// TestAliasesMeet: facts whose grain is the same once two members are one follow the rules of a repeated grain: the
// one of the member that stays stands, one that says the same goes, and one that says something else is set aside.
func TestAliasesMeet(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			warehouse := "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				warehouse = "postgres: " + connection + "\n  schema: " + schema
			}
			f := newYard(
				t,
				"sqlite: star.db",
				warehouse,
				"dimensions:\n",
				"  others:\n    read: others.csv\n    columns: {old: text, now: text}\ndimensions:\n",
				"    natural_key: reg\n",
				"    natural_key: reg\n    aliases: {from: others, alias: old, is: now}\n",
				"    grain: trip\n",
				"    grain: [boat, trip]\n",
				"read: trips.csv",
				"read: trips*.csv",
			)
			startest.Write(t, f.dir, "others.csv", "old,now\n")
			f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-03-01", "B,Otter,x,2024-02-01", "C,Tern,x,2024-01-01")
			f.trips(
				"1,B,2024-02-10,1",
				"1,A,2024-02-10,1",
				"2,A,2024-02-10,2",
				"2,B,2024-02-10,3",
				"3,B,2024-02-10,4",
				"4,C,2024-02-10,5",
			)
			startest.Write(t, f.dir, "trips2.csv", "trip,reg,at,paid\n2,Z,2024-02-10,9\n")
			f.load()
			f.want(
				"at first",
				f.rows("fact_trip", "trip", "paid"),
				"1 1.00\n1 1.00\n2 2.00\n2 3.00\n2 9.00\n3 4.00\n4 5.00",
			)
			startest.Write(t, f.dir, "others.csv", "old,now\nB,A\nZ,A\n")
			startest.Write(t, f.dir, "trips2.csv", "trip,reg,at,paid\n") // archived, as it were
			figures := f.load()
			f.want("met", f.rows("fact_trip", "trip", "boat_key", "paid"), "1 1 1.00\n2 1 2.00\n3 1 4.00\n4 4 5.00")
			if b, trips := figures["dimension boat"], figures["fact trip"]; b.Met["fact_trip"] != 3 ||
				b.Combined != 2 ||
				trips.Same != 5 ||
				trips.SetAside != 1 ||
				trips.Inserted != 0 {
				t.Errorf("%+v\n%+v", b, trips)
			}
			for range 2 {
				if broken := startest.Broken(t, f.dir); len(broken) > 0 {
					t.Error(broken)
				}
				f.load()
			}
		})
	}
}
