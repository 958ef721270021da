// Generate writes the made-up canal-authority files of the reference job.
//
//	go run ./bench/generate -rows 1000000 -vessels 100000 -seed 1 -out DIR
//
// The same flags always give the same bytes (own generator: splitmix64).
package main

import (
	"bufio"
	"flag"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"time"
)

type rng uint64

func (r *rng) next() uint64 {
	*r += 0x9e3779b97f4a7c15
	z := uint64(*r)
	z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9
	z = (z ^ (z >> 27)) * 0x94d049bb133111eb
	return z ^ (z >> 31)
}

// n gives 0..m-1.
func (r *rng) n(m int) int { return int((r.next() >> 33) * uint64(m) >> 31) }

var epoch = time.Date(2010, 1, 1, 0, 0, 0, 0, time.UTC)

func dayOf(y, m, d int) int {
	return int(time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC).Sub(epoch).Hours() / 24)
}

var dayText []string // day number since 2010-01-01 -> YYYY-MM-DD

func two(b []byte, v int) []byte { return append(b, byte('0'+v/10), byte('0'+v%10)) }

// dec appends v/10^places with exactly that many places.
func dec(b []byte, v, places, pow int) []byte {
	b = strconv.AppendInt(b, int64(v/pow), 10)
	b = append(b, '.')
	f := v % pow
	for p := pow / 10; p > 0; p /= 10 {
		b = append(b, byte('0'+f/p%10))
	}
	_ = places
	return b
}

func code(b []byte, prefix string, v, width int) []byte {
	b = append(b, prefix...)
	p := 1
	for i := 1; i < width; i++ {
		p *= 10
	}
	for ; p > 0; p /= 10 {
		b = append(b, byte('0'+v/p%10))
	}
	return b
}

type file struct {
	f *os.File
	w *bufio.Writer
}

func create(dir, name string) *file {
	f, err := os.Create(filepath.Join(dir, name))
	if err != nil {
		log.Fatal(err)
	}
	return &file{f, bufio.NewWriterSize(f, 1<<20)}
}

func (f *file) close() {
	if err := f.w.Flush(); err != nil {
		log.Fatal(err)
	}
	if err := f.f.Close(); err != nil {
		log.Fatal(err)
	}
}

const (
	nLocks, nWaterways, nCargoes, nKeepers = 2000, 30, 500, 5000
)

var (
	first  = []string{"Silver", "Grey", "Old", "North", "Quiet", "Amber", "Wild", "Long", "Swift", "Stone", "Iron", "Marsh", "Willow", "Copper", "Early", "Broad"}
	second = []string{"Heron", "Otter", "Lantern", "Ferry", "Swan", "Reed", "Anchor", "Kestrel", "Barrow", "Mill", "Bridge", "Tern", "Oak", "Basin", "Rudder", "Plover"}
	class  = []string{"A", "B", "C", "D", "E"}
	plain  = []string{"late at gate", "towed", "night passage", "pilot aboard", "checked twice", "low water", "crew change", "held for convoy", "engine trouble", "paid at lock"}
	quoted = []string{
		`"waited, then passed"`,
		`"keeper said ""no draught"", measured again"`,
		`"hull scraped, ""minor"", photo taken"`,
		`"cargo shifted, re-stowed, left 20 min later"`,
		`"master called it ""the usual"""`,
	}
)

type change struct {
	day, vessel, seq int
	line             []byte
}

func main() {
	rows := flag.Int("rows", 1000000, "passages in all")
	vessels := flag.Int("vessels", 100000, "natural keys in vessels.csv")
	seed := flag.Uint64("seed", 1, "seed")
	out := flag.String("out", "data", "directory")
	flag.Parse()
	if err := os.MkdirAll(*out, 0o755); err != nil {
		log.Fatal(err)
	}
	for d := 0; d < 7000; d++ {
		dayText = append(dayText, epoch.AddDate(0, 0, d).Format("2006-01-02"))
	}
	small(*out, *seed)
	feed(*out, *seed, *vessels)
	passages(*out, *seed, *rows, *vessels)
}

func small(dir string, seed uint64) {
	r := rng(seed*1000003 + 11)
	name := func() string {
		return first[r.n(len(first))] + " " + second[r.n(len(second))]
	}
	f := create(dir, "waterways.csv")
	fmt.Fprintln(f.w, "waterway_code,name,region")
	regions := []string{"Upland", "Lowland", "Delta", "Coast", "Border"}
	for i := 1; i <= nWaterways; i++ {
		fmt.Fprintf(f.w, "W%02d,%s Canal,%s\n", i, name(), regions[r.n(len(regions))])
	}
	f.close()
	f = create(dir, "locks.csv")
	fmt.Fprintln(f.w, "lock_code,name,waterway_code,chamber_m")
	for i := 1; i <= nLocks; i++ {
		fmt.Fprintf(f.w, "L%04d,%s Lock,W%02d,%d\n", i, name(), 1+r.n(nWaterways), 20+r.n(180))
	}
	f.close()
	f = create(dir, "cargoes.csv")
	fmt.Fprintln(f.w, "cargo_code,name,hazard,perishable")
	for i := 1; i <= nCargoes; i++ {
		fmt.Fprintf(f.w, "C%03d,%s goods %d,%s,%s\n", i, first[r.n(len(first))], i, []string{"none", "low", "high"}[r.n(3)], []string{"true", "false"}[r.n(2)])
	}
	f.close()
	f = create(dir, "keepers.csv")
	fmt.Fprintln(f.w, "keeper_no,name,grade")
	for i := 1; i <= nKeepers; i++ {
		fmt.Fprintf(f.w, "%d,\"%s, %s\",%s\n", i, second[r.n(len(second))], first[r.n(len(first))], class[r.n(len(class))])
	}
	f.close()
}

// vesselKey: the number repeats in both registries, so it is unique only
// together with the registry.
func vesselKey(b []byte, v int) []byte {
	if v%2 == 0 {
		b = append(b, "N,"...)
	} else {
		b = append(b, "S,"...)
	}
	return code(b, "NV-", v/2+1, 6)
}

func feed(dir string, seed uint64, vessels int) {
	r := rng(seed*1000003 + 22)
	from, mid, to := dayOf(2015, 1, 1), dayOf(2022, 1, 1), dayOf(2025, 12, 31)
	changes := make([]change, 0, vessels*5/2+vessels/10)
	for v := 0; v < vessels; v++ {
		k := 1 + r.n(4) // 1..4 rows, 2.5 on average
		days := make([]int, k)
		days[0] = from + r.n(mid-from+1)
	again:
		for i := 1; i < k; i++ {
			days[i] = mid + 1 + r.n(to-mid)
		}
		sort.Ints(days)
		for i := 1; i < k; i++ {
			if days[i] == days[i-1] {
				goto again
			}
		}
		nm := first[r.n(len(first))] + " " + second[r.n(len(second))]
		cl, ba, dr := r.n(len(class)), r.n(40), 60+r.n(400)
		for i, d := range days {
			if i > 0 {
				switch x := r.n(100); {
				case x < 40: // licence class
					cl = (cl + 1 + r.n(len(class)-1)) % len(class)
				case x < 65: // basin
					ba = (ba + 1 + r.n(39)) % 40
				case x < 70: // both
					cl = (cl + 1) % len(class)
					ba = (ba + 1) % 40
				case x < 85: // name
					nm = first[r.n(len(first))] + " " + second[r.n(len(second))]
				case x < 97: // draught
					dr = 60 + r.n(400)
				} // else: sent again, unchanged
			}
			b := vesselKey(nil, v)
			b = append(b, ',')
			b = append(b, nm...)
			b = append(b, ',')
			b = append(b, class[cl]...)
			b = append(b, ",Basin "...)
			b = two(b, ba+1)
			b = append(b, ',')
			b = strconv.AppendInt(b, int64(dr), 10)
			b = append(b, ',')
			b = append(b, dayText[d]...)
			b = append(b, '\n')
			changes = append(changes, change{d, v, i, b})
		}
	}
	sort.Slice(changes, func(i, j int) bool {
		a, b := &changes[i], &changes[j]
		if a.day != b.day {
			return a.day < b.day
		}
		return a.vessel < b.vessel
	})
	f := create(dir, "vessels.csv")
	f.w.WriteString("registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on\n")
	for i := range changes {
		f.w.Write(changes[i].line)
	}
	f.close()
}

func passages(dir string, seed uint64, rows, vessels int) {
	r := rng(seed*1000003 + 33)
	const span = 1096 * 86400 // 2023-01-01 .. 2025-12-31
	day0 := dayOf(2023, 1, 1)
	unknown := vessels / 200
	if unknown < 1 {
		unknown = 1
	}
	b := make([]byte, 0, 512)
	no := 0
	for k := 1; k <= 3; k++ {
		f := create(dir, fmt.Sprintf("passages-%d.csv", k))
		f.w.WriteString("passage_no,registry,vessel_reg,lock_code,cargo_code,keeper_no,booked_on,passed_at,settled_on,tonnage,rate,rebate,wait_minutes,remark\n")
		for ; no < rows*k/3; no++ {
			b = strconv.AppendInt(b[:0], int64(no+1), 10)
			b = append(b, ',')
			if r.n(1000) < 5 {
				u := r.n(unknown)
				b = append(b, "NS"[u%2], ',')
				b = code(b, "XV-", u/2+1, 6)
			} else {
				b = vesselKey(b, r.n(vessels))
			}
			b = append(b, ',')
			if r.n(1000) < 1 {
				b = code(b, "L", 9001+r.n(20), 4)
			} else {
				b = code(b, "L", 1+r.n(nLocks), 4)
			}
			b = append(b, ',')
			b = code(b, "C", 1+r.n(nCargoes), 3)
			b = append(b, ',')
			b = strconv.AppendInt(b, int64(1+r.n(nKeepers)), 10)
			b = append(b, ',')
			// in time order but for a jitter of two days either way
			sec := int(float64(no)/float64(rows)*span) + r.n(4*86400) - 2*86400
			if sec < 0 {
				sec = r.n(86400)
			}
			if sec >= span {
				sec = span - 1 - r.n(86400)
			}
			day := day0 + sec/86400
			sec %= 86400
			b = append(b, dayText[day-r.n(60)]...)
			b = append(b, ',')
			if r.n(1000) >= 1 {
				b = append(b, dayText[day]...)
				b = append(b, ' ')
				b = two(b, sec/3600)
				b = append(b, ':')
				b = two(b, sec/60%60)
				b = append(b, ':')
				b = two(b, sec%60)
			}
			b = append(b, ',')
			if r.n(100) >= 7 {
				b = append(b, dayText[day+r.n(45)]...)
			}
			b = append(b, ',')
			b = dec(b, 10000+r.n(12000000), 2, 100) // 100.00 .. 120099.99
			b = append(b, ',')
			b = dec(b, 500+r.n(49500), 4, 10000) // 0.0500 .. 4.9999
			b = append(b, ',')
			b = dec(b, r.n(2501), 4, 10000) // 0.0000 .. 0.2500
			b = append(b, ',')
			b = strconv.AppendInt(b, int64(r.n(720)), 10)
			b = append(b, ',')
			if x := r.n(100); x < 5 {
				b = append(b, quoted[r.n(len(quoted))]...)
			} else if x < 20 {
				b = append(b, plain[r.n(len(plain))]...)
			}
			b = append(b, '\n')
			f.w.Write(b)
		}
		f.close()
	}
}
