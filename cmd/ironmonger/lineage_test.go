package main

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"ironmonger/internal/demo"
	"ironmonger/internal/startest"
)

// runEvent is what the standard says of a run event, as far as it is used.
type runEvent struct {
	EventType, EventTime, Producer, SchemaURL string

	Run struct {
		RunID  string `json:"runId"`
		Facets map[string]json.RawMessage
	}
	Job     struct{ Namespace, Name string }
	Inputs  []eventSet
	Outputs []eventSet
}

type eventSet struct {
	Namespace, Name string

	Facets struct {
		Schema        struct{ Fields []struct{ Name, Type string } }
		ColumnLineage struct {
			Fields map[string]struct {
				InputFields []struct{ Namespace, Name, Field string }
			}
		}
	}
	OutputFacets struct {
		OutputStatistics struct{ RowCount int64 }
	}
}

// TestLineage: each step of the demo tells when it begins and how it ends, in the form of the standard: with what it
// reads, what it writes, and of what each column is made. A file and a service get the same. A service that is not
// there changes nothing.
func TestLineage(t *testing.T) {
	var mu sync.Mutex
	var posted []string
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		posted = append(posted, string(text))
		w.WriteHeader(http.StatusCreated)
	}))
	defer service.Close()
	dir := t.TempDir()
	if err := demo.Write(dir, 100); err != nil {
		t.Fatal(err)
	}
	model := readFile(t, dir, "ironmonger.yaml")
	startest.Write(t, dir, "ironmonger.yaml", model+"\nparameters: {token: secret}\nlineage: {namespace: canal, file: events.jsonl, post: '"+service.URL+"/{token}'}\n")
	t.Setenv("IRONMONGER_SET_token", "do-not-tell")
	must(t, dir, "load", "--dry-run")
	if len(posted) > 0 {
		t.Error("a dry run tells", posted)
	}
	steps := figures(t, must(t, dir, "load", "--format", "json"))
	text := readFile(t, dir, "events.jsonl")
	if text != strings.Join(posted, "\n")+"\n" {
		t.Error("the file has others than the service")
	}
	if strings.Contains(text, "do-not-tell") {
		t.Error("a secret is told")
	}
	ends := map[string]*runEvent{}
	begun := map[string]string{}
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		e := &runEvent{}
		decode(t, line, e)
		checkEvent(t, e, line)
		if e.EventType == "START" {
			begun[e.Job.Name] = e.Run.RunID
			continue
		}
		if ends[e.Job.Name] = e; e.EventType != "COMPLETE" || begun[e.Job.Name] != e.Run.RunID {
			t.Errorf("%s of %s, run %s, began as %s", e.EventType, e.Job.Name, e.Run.RunID, begun[e.Job.Name])
		}
	}
	if len(ends) != len(steps) {
		t.Errorf("%d steps, and %d have told", len(steps), len(ends))
	}
	for name, f := range steps {
		e := ends[strings.Replace(name, " ", ".", 1)]
		written := int64(0)
		for _, kind := range []string{"inserted", "new", "versions", "filled", "changed"} {
			if n, ok := f[kind].(float64); ok {
				written += int64(n)
			}
		}
		if got := e.Outputs[0].OutputFacets.OutputStatistics.RowCount; got != written {
			t.Errorf("%s has written %d, and tells %d", name, written, got)
		}
	}
	for _, x := range []struct{ step, column, of string }{
		{"fact.passage", "toll", "passages/*.csv.rate passages/*.csv.rebate passages/*.csv.tonnage"},
		{"fact.passage", "passage_kind_key", "passages/*.csv.passed_at passages/*.csv.rebate"},
		{"fact.work", "cost_here", "exchange.csv.rate works/{folder}/*.jsonl.cost"},
		{"fact.work", "office_key", "offices.csv.office_code"},
		{"fact.work", "lock_key", "works/{folder}/*.jsonl.lock.code"},
		{"fact.water_level", "day_date_key", "gauges/*.parquet.read_at"},
		{"fact.keeper_duty", "toll_part", "duty.csv.minutes fact_passage.toll"},
		{"fact.waterway_month", "waterway_key", "dim_waterway.code"},
		{"dimension.hazard", "hazard", "cargoes.csv.hazard"},
		{"dimension.vessel", "vessel_profile_key", "register/*.csv.draught_cm register/*.csv.registry"},
		{"dimension.keeper", "grade", "keeper.grade"},
	} {
		var of []string
		for _, in := range ends[x.step].Outputs[0].Facets.ColumnLineage.Fields[x.column].InputFields {
			of = append(of, strings.TrimPrefix(in.Name, dir+"/")+"."+in.Field)
		}
		slices.Sort(of)
		if got := strings.Join(of, " "); got != x.of {
			t.Errorf("%s.%s is made of %s; want %s", x.step, x.column, got, x.of)
		}
	}
	service.Close()
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(readFile(t, dir, "ironmonger.yaml"), "    from: quotas\n", "    from: quotas\n    must_hold: {never: {every: tonnes < 0, in_load: stop}}\n", 1))
	_, errs, failed := run(t, dir, "load", "--again")
	if failed != 1 || strings.Count(errs, "lineage: no answer") != 1 || strings.Contains(errs, "do-not-tell") {
		t.Errorf("without the service: status %d, %s", failed, errs)
	}
	if text = readFile(t, dir, "events.jsonl"); strings.Count(text, `"eventType":"FAIL"`) != 1 || !strings.Contains(text, `"errorMessage":{`) {
		t.Error("a step that failed does not tell")
	}
}

var (
	uuids   = regexp.MustCompile(`^[0-9a-f]{8}-[0-9a-f]{4}-5[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`)
	instant = regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z$`)
)

// checkEvent holds an event against what the standard requires of each, and what it reads against what its columns are
// made of.
func checkEvent(t *testing.T, e *runEvent, line string) {
	if !uuids.MatchString(e.Run.RunID) || !instant.MatchString(e.EventTime) || !strings.HasPrefix(e.Producer, "urn:ironmonger:") ||
		e.SchemaURL != "https://openlineage.io/spec/2-0-2/OpenLineage.json#/$defs/RunEvent" || e.Job.Namespace != "canal" || e.Run.Facets["parent"] == nil ||
		len(e.Outputs) != 1 || len(e.Outputs[0].Facets.Schema.Fields) == 0 || !strings.Contains(line, `"inputs":[`) {
		t.Errorf("not as the standard has it: %s", line)
	}
	if strings.Count(line, `"_producer"`) != strings.Count(line, `"_schemaURL"`) {
		t.Errorf("a facet without its producer or its schema: %s", line)
	}
	for name, of := range e.Outputs[0].Facets.ColumnLineage.Fields {
		for _, in := range of.InputFields {
			if !slices.ContainsFunc(e.Inputs, func(x eventSet) bool { return x.Namespace == in.Namespace && x.Name == in.Name }) {
				t.Errorf("%s: %s is made of %s, which is not read", e.Job.Name, name, in.Name)
			}
		}
	}
}
