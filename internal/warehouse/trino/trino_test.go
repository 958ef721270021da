package trino_test

import (
	"context"
	"os"
	"testing"

	"ironmonger/internal/startest"
	"ironmonger/internal/warehouse"
	"ironmonger/internal/warehouse/warehousetest"
)

var ctx = context.Background()

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

func TestTrino(t *testing.T) {
	warehousetest.Run(t, func(t *testing.T) func() warehouse.Warehouse {
		at := startest.Trino(t)
		return func() warehouse.Warehouse { return open(t, at) }
	})
}

func open(t *testing.T, at warehouse.Location) warehouse.Warehouse {
	t.Helper()
	w, err := warehouse.Open(ctx, at, warehouse.ToWrite)
	if err != nil {
		t.Fatal(err)
	}
	return w
}
