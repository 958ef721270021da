package load_test

import (
	"strings"
	"testing"

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
	f.boats("A,Heron,y,2024-03-01", "A,Heron,x,2024-01-01", "A,Heron,z,2024-02-01", "A,Heron,z,2024-04-01", "B,Otter,y,2024-05-01")
	if b := f.load()["dimension boat"]; b.SetAside != 1 || b.Versions != 1 || b.Same != 2 || b.Changed != 1 || b.Reasons[0].Reason != "older than what was loaded of its member" {
		t.Errorf("one row is late: %+v", b)
	}
	f.want("versions", f.rows("dim_boat", "reg", "class", "valid_from"), "A x 1900-01-01\nA y 2024-03-01\nA z 2024-04-01\nB y 1900-01-01\n∅ Unknown 1900-01-01")
}
