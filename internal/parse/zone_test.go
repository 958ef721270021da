package parse

import (
	"math/rand/v2"
	"testing"
	"time"

	"ironmonger/internal/column"
)

// TestShowing holds timestamps that are written in one zone and shown in another against a search for the first instant
// at which the clock of the one shows what is written.
func TestShowing(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	var zones []*time.Location
	for _, name := range []string{"UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Apia"} {
		zone, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		zones = append(zones, zone)
	}
	c := column.Column{Type: column.Type{Kind: column.Timestamp}}
	c.Resize(1)
	twice, skipped := 0, 0
	for range 20_000 {
		from, to := zones[r.IntN(len(zones))], zones[r.IntN(len(zones))]
		near := time.Unix(1735689600+int64(r.IntN(365*86400)), 0).In(from)
		if _, end := near.ZoneBounds(); !end.IsZero() && r.IntN(2) == 0 { // near a change of the clock
			near = end.Add(time.Duration(r.IntN(240)-120) * time.Minute)
		}
		about, _ := time.Parse("2006-01-02 15:04:05", near.Format("2006-01-02 15:04:05"))
		about = about.Add(time.Duration(r.IntN(180)-90) * time.Minute)
		wall := about.Format("2006-01-02 15:04:05")
		var instants []time.Time
		for minutes := -16 * 60; minutes <= 16*60; minutes += 15 {
			if at := about.Add(time.Duration(minutes) * time.Minute).In(from); at.Format("2006-01-02 15:04:05") == wall {
				instants = append(instants, at)
			}
		}
		err := NewReader(from).Showing(to).Set(&c, 0, wall)
		if len(instants) == 0 {
			skipped++
			if err == nil {
				t.Fatalf("%s does not exist in %s, and is %s", wall, from, c.Value(0))
			}
			continue
		}
		if len(instants) > 1 {
			twice++
		}
		if want := instants[0].In(to).Format("2006-01-02 15:04:05"); err != nil || c.Value(0) != want {
			t.Fatalf("%s in %s is %s in %s: got %s, %v", wall, from, want, to, c.Value(0), err)
		}
	}
	if twice < 100 || skipped < 100 {
		t.Errorf("%d times came twice, %d did not exist", twice, skipped)
	}
	if err := NewReader(nil).Showing(time.UTC).Set(&c, 0, "2025-01-01 00:00:00"); err == nil {
		t.Error("nothing says in which zone it is written")
	}
}
