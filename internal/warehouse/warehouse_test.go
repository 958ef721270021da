package warehouse_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"ironmonger/internal/startest"
	"ironmonger/internal/warehouse"
	"ironmonger/internal/warehouse/warehousetest"
)

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

// TestDrivers holds every driver to what a warehouse has to do.
func TestDrivers(t *testing.T) {
	opening := func(t *testing.T, at warehouse.Location) func() warehouse.Warehouse {
		return func() warehouse.Warehouse {
			w, err := warehouse.Open(context.Background(), at, warehouse.ToWrite)
			if err != nil {
				t.Fatal(err)
			}
			return w
		}
	}
	places := map[string]func(t *testing.T) warehouse.Location{
		"sqlite": func(t *testing.T) warehouse.Location {
			return warehouse.Location{Kind: "sqlite", Path: filepath.Join(t.TempDir(), "test.db")}
		},
		"postgres": func(t *testing.T) warehouse.Location {
			connection, schema := startest.Postgres(t)
			return warehouse.Location{Kind: "postgres", Connection: connection, Schema: schema + ` "quoted"`}
		},
	}
	for _, kind := range warehouse.Kinds() {
		t.Run(kind, func(t *testing.T) {
			warehousetest.Run(t, func(t *testing.T) func() warehouse.Warehouse { return opening(t, places[kind](t)) })
		})
	}
	if _, err := warehouse.Open(context.Background(), warehouse.Location{Kind: "granite"}, warehouse.ToRead); err == nil {
		t.Error("a kind that nobody has registered is opened")
	}
}
