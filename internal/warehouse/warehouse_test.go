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

var ctx = context.Background()

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

func open(t *testing.T, at warehouse.Location) warehouse.Warehouse {
	t.Helper()
	w, err := warehouse.Open(ctx, at, warehouse.ToWrite)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// TestDrivers holds every driver to what a warehouse has to do.
func TestDrivers(t *testing.T) {
	places := map[string]func(t *testing.T) warehouse.Location{
		"sqlite": func(t *testing.T) warehouse.Location {
			return warehouse.Location{Kind: "sqlite", Path: filepath.Join(t.TempDir(), "test.db")}
		},
		"postgres": func(t *testing.T) warehouse.Location {
			connection, schema := startest.Postgres(t)
			return warehouse.Location{Kind: "postgres", Connection: connection, Schema: schema + ` "quoted"`}
		},
		"trino": func(t *testing.T) warehouse.Location { return startest.Trino(t) },
	}
	for _, kind := range warehouse.Kinds() {
		t.Run(kind, func(t *testing.T) {
			warehousetest.Run(t, func(t *testing.T) func() warehouse.Warehouse {
				at := places[kind](t)
				return func() warehouse.Warehouse { return open(t, at) }
			})
		})
	}
	if _, err := warehouse.Open(ctx, warehouse.Location{Kind: "granite"}, warehouse.ToRead); err == nil {
		t.Error("a kind that nobody has registered is opened")
	}
}
