package load_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironmonger/internal/ledger"
	"ironmonger/internal/startest"
)

// TestOtherModels: a fact of another model that was loaded into the same warehouse is pointed anew, too, when a row of
// a dimension comes late: the ledger knows it.
func TestOtherModels(t *testing.T) {
	f := newYard(t)
	f.boats("A,Heron,x,2024-01-01")
	f.trips("1,A,2024-01-10,1", "2,A,2024-03-10,2")
	f.load()
	startest.Write(t, f.dir, "ironmonger.yaml", yard[:strings.Index(yard, "facts:")])
	f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-02-01")
	if n := f.load()["dimension boat"].Repointed["fact_trip"]; n != 1 {
		t.Errorf("%d trips were pointed to another version, want 1", n)
	}
	startest.Write(t, f.dir, "ironmonger.yaml", yard)
	f.want("trips", f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 2")
	if !startest.Proved(t, f.dir) {
		t.Error("a right star is said to be broken")
	}
}

// TestLateRows: where the model says so, what is older than what was loaded of its member is set aside; within a load
// any order is fine, and what is loaded already is no news.
func TestLateRows(t *testing.T) {
	f := newYard(t, "    effective: since\n", "    effective: since\n    late_rows: set_aside\n")
	f.boats("A,Heron,y,2024-03-01", "A,Heron,x,2024-01-01", "B,Otter,x,2024-05-01")
	if b := f.load()["dimension boat"]; b.New != 2 || b.Versions != 1 || b.SetAside != 0 {
		t.Errorf("in one load: %+v", b)
	}
	f.boats(
		"A,Heron,y,2024-03-01",
		"A,Heron,x,2024-01-01",
		"A,Heron,z,2024-02-01",
		"A,Heron,z,2024-04-01",
		"B,Otter,y,2024-05-01",
	)
	if b := f.load()["dimension boat"]; b.SetAside != 1 || b.Versions != 1 || b.Same != 2 || b.Changed != 1 ||
		b.Reasons[0].Reason != "older than what was loaded of its member" {
		t.Errorf("one row is late: %+v", b)
	}
	f.want(
		"versions",
		f.rows("dim_boat", "reg", "class", "valid_from"),
		"A x 1900-01-01\nA y 2024-03-01\nA z 2024-04-01\nB y 1900-01-01\n∅ Unknown 1900-01-01",
	)
}

// TestKeysOfType2: a key of a dimension that is listed under type_2 makes a version when it changes; one that is
// not is overwritten on all versions.
func TestKeysOfType2(t *testing.T) {
	for _, kind := range []string{"type_2: [class, quay]", "type_2: class", "type_2: quay"} {
		f := newYard(
			t,
			"      class: text\n",
			"      class: text\n      quay: text\n",
			"dimensions:\n",
			"dimensions:\n  quay:\n    natural_key: code\n    rows:\n      - {code: Q1}\n      - {code: Q2}\n",
			"    type_2: class\n",
			"    "+kind+"\n    keys: {quay: quay}\n",
		)
		startest.Write(
			t,
			f.dir,
			"ironmonger.yaml",
			strings.ReplaceAll(
				string(mustRead(t, f.dir)),
				"      quay: text\n",
				"      at_quay: {type: text, header: quay}\n",
			),
		)
		startest.Write(
			t,
			f.dir,
			"ironmonger.yaml",
			strings.ReplaceAll(string(mustRead(t, f.dir)), "{quay: quay}", "{quay: at_quay}"),
		)
		load := func(rows ...string) ledger.Figures {
			startest.Write(t, f.dir, "boats.csv", "reg,name,class,quay,since\n"+strings.Join(rows, "\n")+"\n")
			return f.load()["dimension boat"]
		}
		load("A,Heron,x,Q1,2024-01-01")
		f.trips("1,A,2024-01-10,1", "2,A,2024-03-10,1")
		b := load("A,Heron,x,Q2,2024-03-01", "A,Heron,x,,2024-02-01")
		boats := f.rows("dim_boat", "reg", "quay_key", "valid_from")
		if strings.Contains(kind, "quay") {
			f.want(kind, boats, "A -1 2024-02-01\nA 1 1900-01-01\nA 2 2024-03-01\n∅ -1 1900-01-01")
			if b.Versions != 2 {
				t.Errorf("%s: %+v", kind, b)
			}
			f.want(kind, f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 2")
		} else {
			f.want(kind, boats, "A 2 1900-01-01\n∅ -1 1900-01-01")
		}
		if !startest.Proved(t, f.dir) {
			t.Error("a right star is said to be broken")
		}
		before := startest.Dump(t, f.dir)
		f.load()
		f.want("again", startest.Dump(t, f.dir), before)
	}
}

func mustRead(t *testing.T, dir string) []byte {
	text, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// TestOutsideAllTime: a fact after the end of all time is at the nearest version, the last, whichever that becomes;
// and one of a new member at a time at which no member holds is outside, and infers none unless the nearest version
// would do.
func TestOutsideAllTime(t *testing.T) {
	for _, stamps := range []string{"date", "timestamp"} {
		f := newYard(t, "      since: date", "      since: "+stamps, "      at: date", "      at: "+stamps)
		at := func(day string) string { return day + map[string]string{"timestamp": " 00:00:00"}[stamps] }
		f.boats("A,Heron,x," + at("2024-01-01"))
		f.trips("1,A,"+at("9999-12-31")+",1", "2,A,"+at("1850-01-01")+",1", "3,N,"+at("9999-12-31")+",1")
		f.load()
		f.boats(
			"A,Heron,x,"+at("2024-01-01"),
			"A,Heron,y,"+at("2025-01-01"),
			"N,Otter,x,"+at("2024-01-01"),
			"N,Otter,y,"+at("2025-01-01"),
		)
		f.load()
		f.want("nearest", f.rows("fact_trip", "trip", "boat_key"), "1 3\n2 1\n3 4")
		f.want("versions", f.rows("dim_boat", "boat_key", "reg", "class"), "-1 ∅ Unknown\n1 A x\n2 N x\n3 A y\n4 N y")
		if !startest.Proved(t, f.dir) {
			t.Error("a right star is said to be broken")
		}
		f = newYard(
			t,
			"      since: date",
			"      since: "+stamps,
			"      at: date",
			"      at: "+stamps,
			"        as_of: at",
			"        as_of: at\n        outside: set_aside",
		)
		f.trips("1,A,"+at("9999-12-31")+",1", "2,B,"+at("1850-01-01")+",1", "3,C,"+at("2024-01-01")+",1")
		figures := f.load()["fact trip"]
		f.want("set aside", f.rows("fact_trip", "trip"), "3")
		if figures.SetAside != 2 || figures.Inferred["boat"] != 1 || figures.Keys["boat"].Outside != 2 ||
			figures.Keys["boat"].Unmatched != 1 ||
			!startest.Proved(t, f.dir) {
			t.Errorf("%+v", figures)
		}
	}
}

// TestOutcomes: what became of a key is part of what a row says. A row without a natural key is not the same as one
// with a natural key that nobody has, where the rules tell them apart.
func TestOutcomes(t *testing.T) {
	for _, c := range []struct {
		missing, unmatched, first, then string
		same                            bool
	}{
		{"unknown", "leave_empty", "", "Z", false},
		{"unknown", "leave_empty", "Z", "", false},
		{"leave_empty", "unknown", "", "Z", false},
		{"not_yet", "unknown", "", "Z", false},
		{"not_yet", "unknown", "Z", "A", false}, // the ledger knows which natural key no member had
		{"not_yet", "unknown", "Z", "Z", true},
		{"unknown", "unknown", "", "Z", false}, // and which rows had none
		{"unknown", "unknown", "", "A", false},
		{"not_yet", "unknown", "", "A", false},
		{"unknown", "infer", "", "A", false},
	} {
		f := newYard(
			t,
			"        as_of: at",
			"        missing: "+c.missing+"\n        unmatched: "+c.unmatched,
			"    type_2: class\n    effective: since\n",
			"",
		)
		f.boats("A,Heron,x,2024-01-01")
		f.trips("1," + c.first + ",2024-01-10,1")
		f.load()
		f.trips("1," + c.then + ",2024-01-10,1")
		figures := f.load()["fact trip"]
		if (figures.Same == 1) != c.same || figures.Same+figures.SetAside != 1 {
			t.Errorf("%+v: %d same, %d set aside", c, figures.Same, figures.SetAside)
		}
		alike := c.missing == c.unmatched && c.then == "Z" // in the table, which is all that prove has
		if broken := startest.Broken(t, f.dir); (len(broken) == 0) != (c.same || alike) {
			t.Errorf("%+v: %v", c, broken)
		}
	}
}
