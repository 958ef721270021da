package source

import (
	"context"
	"math/rand/v2"
	"os"
	"runtime"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/star"
)

// BenchmarkFormats is how fast the same typed rows are read from each text format, on all cores. IRONMONGER_FORMATS
// names a folder in which the files are left, so that another program can read them, too.
func BenchmarkFormats(b *testing.B) {
	var rows [][]value
	r := rand.New(rand.NewPCG(1, 1))
	for len(rows) < 200_000 {
		rows = append(rows, randomTable(r)...)
	}
	for _, format := range []string{star.InCSV, star.JSONLines, star.Workbook, star.XML, star.Fixed} {
		b.Run(format, func(b *testing.B) {
			dir := os.Getenv("IRONMONGER_FORMATS")
			if dir == "" {
				dir = b.TempDir()
			}
			s := writeTable(b, rand.New(rand.NewPCG(3, 3)), dir, format, rows)
			root, err := os.OpenRoot(dir)
			if err != nil {
				b.Fatal(err)
			}
			defer root.Close()
			b.ResetTimer()
			for range b.N {
				in, err := (&Inputs{Model: &star.Model{}, Root: root}).Open(context.Background(), s, nil, func(string) bool { return true })
				if err != nil {
					b.Fatal(err)
				}
				n := 0
				err = pipeline.Batches(context.Background(), in, runtime.GOMAXPROCS(0), func(batch *column.Batch) error {
					n += batch.N
					return nil
				})
				if err != nil || n < len(rows) {
					b.Fatal(err, n)
				}
			}
			b.ReportMetric(float64(len(rows))*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
		})
	}
}
