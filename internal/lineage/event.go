// Package lineage says what loads read and write, as run events of OpenLineage, the open standard: an event when a step
// begins and one when it ends, with the columns of what it reads and writes, the columns of which each column is made,
// and the numbers of rows.
//
// The form of the events is that of version 2-0-2 of the standard. A step is a job, and a run of it is a run of that
// job, whose parent is the run of the load.
package lineage

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Types of events.
const (
	start    = "START"
	complete = "COMPLETE"
	fail     = "FAIL"
)

const standard = "https://openlineage.io/spec/"

// Event is a run event.
type Event struct {
	EventType string    `json:"eventType"`
	EventTime string    `json:"eventTime"`
	Run       runOf     `json:"run"`
	Job       job       `json:"job"`
	Inputs    []dataset `json:"inputs"`
	Outputs   []dataset `json:"outputs"`
	Producer  string    `json:"producer"`
	SchemaURL string    `json:"schemaURL"`
}

type facets map[string]any

type runOf struct {
	RunID  string `json:"runId"`
	Facets facets `json:"facets,omitempty"`
}

type job struct {
	Namespace string `json:"namespace"`
	Name      string `json:"name"`
}

type dataset struct {
	Namespace    string `json:"namespace"`
	Name         string `json:"name"`
	Facets       facets `json:"facets,omitempty"`
	InputFacets  facets `json:"inputFacets,omitempty"`
	OutputFacets facets `json:"outputFacets,omitempty"`
}

// Book makes the events of the loads of a model.
type Book struct {
	model     *star.Model
	star      *schema.Star
	dir       string // the model's folder
	at        warehouse.Location
	namespace string
	producer  string
}

// NewBook returns the book of a model in a folder. program says which program it is, with its version.
func NewBook(m *star.Model, dir, program string) (*Book, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	b := &Book{model: m, star: schema.New(m), dir: dir, at: schema.Location(m, dir), namespace: m.Lineage.Namespace}
	b.producer = "urn:" + strings.ReplaceAll(program, " ", ":")
	if b.namespace == "" {
		b.namespace = filepath.Base(dir)
	}
	return b, nil
}

// Begins returns the event that a step of a run begins.
func (b *Book) Begins(run int64, step string, at time.Time) *Event {
	return b.event(start, run, step, at, nil)
}

// Ends returns the event that a step of a run has ended.
func (b *Book) Ends(s *ledger.Step, at time.Time) *Event {
	kind := complete
	if s.State != ledger.Done {
		kind = fail
	}
	if s.EndedAt != nil {
		at = *s.EndedAt
	}
	return b.event(kind, s.Run, s.Name, at, s)
}

func (b *Book) event(kind string, run int64, step string, at time.Time, s *ledger.Step) *Event {
	e := &Event{
		EventType: kind, EventTime: at.UTC().Format("2006-01-02T15:04:05.000Z"),
		Run:      runOf{RunID: b.id(run, step), Facets: facets{}},
		Job:      job{b.namespace, strings.ReplaceAll(step, " ", ".")},
		Producer: b.producer, SchemaURL: standard + "2-0-2/OpenLineage.json#/$defs/RunEvent",
		Inputs: []dataset{}, Outputs: []dataset{},
	}
	e.Run.Facets["parent"] = b.facet("ParentRunFacet", "1-0-1", facets{
		"run": facets{"runId": b.id(run, "")}, "job": facets{"namespace": b.namespace, "name": "load"},
	})
	if kind == fail {
		e.Run.Facets["errorMessage"] = b.facet("ErrorMessageRunFacet", "1-0-1", facets{
			"message": s.Message, "programmingLanguage": "Go",
		})
	}
	b.datasets(e, step, s)
	return e
}

// id returns the number that a run has everywhere: of the warehouse, of the run there, and of the step.
func (b *Book) id(run int64, step string) string {
	place := b.table("load_run")
	return uuid.NewSHA1(uuid.NameSpaceURL, fmt.Appendf(nil, "%s\n%s\n%d\n%s", place.Namespace, place.Name, run, step)).String()
}

func (b *Book) facet(name, version string, f facets) facets {
	f["_producer"] = b.producer
	f["_schemaURL"] = standard + "facets/" + version + "/" + name + ".json#/$defs/" + name
	return f
}

func (b *Book) columns(fields []column.Field) facets {
	list := []facets{}
	for _, f := range fields {
		of := facets{"name": f.Name}
		if t := f.Type.String(); t != "" {
			of["type"] = t
		}
		list = append(list, of)
	}
	return b.facet("SchemaDatasetFacet", "1-1-1", facets{"fields": list})
}
