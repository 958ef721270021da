package demo

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/parquet-go/parquet-go"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"
)

// offices writes the list of repair offices, and what their currencies are worth.
func (a *authority) offices() {
	a.file("offices.csv", "\n", "office_code,office,unit_code,folder,currency", func(line func(string, ...any)) {
		line("MO,Millpool Office,U4,mill,crown")
		line("TO,Tide Office,U5,tide,shell")
	})
	a.file("exchange.csv", "\n", "currency,since,rate", func(line func(string, ...any)) {
		for month := time.January; month <= time.March; month++ {
			line("crown,2025-%02d-01,1", month)
			line("shell,2025-%02d-05,%s", month, fixed(3000+a.pick(900), 4))
		}
	})
}

// departments writes how the authority is made up, what may pass, and what people complain of.
func (a *authority) departments() {
	a.file("units.csv", "\n", "unit_code,unit,part_of", func(line func(string, ...any)) {
		for _, unit := range []string{"U1,Canal Authority,", "U2,Upland Division,U1", "U3,Lowland Division,U1", "U4,Millpool Works,U2", "U5,Tidal Works,U3", "U6,Marsh Watch,U3"} {
			line("%s", unit)
		}
	})
	a.file("quotas.csv", "\n", "hazard,month,tonnes", func(line func(string, ...any)) {
		for month := 1; month <= 3; month++ {
			for _, hazard := range []string{"none", "low", "high"} {
				line("%s,2025-%02d-01,%d", hazard, month, 1000*(1+a.pick(90)))
			}
		}
	})
	a.file(
		"complaints.csv",
		"\n",
		"complaint_no,registry,vessel_reg,lock_code,made_on,loudness",
		func(line func(string, ...any)) {
			for no := 1; no <= 40; no++ {
				line(
					"%d,%s,L%02d,%s,%d",
					no,
					vessel(a.pick(a.vessels)),
					1+a.pick(25),
					time.Date(2025, 1, 1+a.pick(90), 0, 0, 0, 0, time.UTC).Format(time.DateOnly),
					1+a.pick(10),
				)
			}
		},
	)
}

// work is a repair of a lock.
type work struct {
	No   int `json:"work_no"`
	Lock struct {
		Code string `json:"code"`
	} `json:"lock"`
	DoneBy struct {
		Keeper string   `json:"keeper"`
		Tools  []string `json:"tools"`
	} `json:"done_by"`
	Started string      `json:"started_on"`
	Hours   *int        `json:"hours"`
	Cost    json.Number `json:"cost"`
}

// works writes the repairs of each office, an object a line.
func (a *authority) works() {
	no := 0
	for o, folder := range []string{"mill", "tide"} {
		a.file("works/"+folder+"/2025.jsonl", "", "", func(line func(string, ...any)) {
			for day := range 90 {
				for range a.pick(3) {
					var w work
					no++
					w.No = no
					w.Lock.Code = fmt.Sprintf("L%02d", 1+(2*a.pick(12)+o))
					w.DoneBy.Keeper = fmt.Sprintf("%03d", 1+a.pick(a.keepers))
					w.DoneBy.Tools = []string{a.of("hammer", "winch", "tar")}
					w.Started = time.Date(2025, 1, 1+day, 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
					if hours := 1 + a.pick(30); hours%9 > 0 { // else nobody wrote it down
						w.Hours = &hours
					}
					w.Cost = json.Number(fixed(500+a.pick(90000), 2))
					text, _ := json.Marshal(w)
					line("%s\n", text)
				}
			}
		})
	}
}

// reading is a water level.
type reading struct {
	Lock  string  `parquet:"lock_code,dict"`
	At    int64   `parquet:"read_at,timestamp(microsecond:local)"`
	Level int32   `parquet:"level_cm"`
	Gauge *string `parquet:"gauge,optional,dict"`
}

// gauges writes water levels, a file a month.
func (a *authority) gauges() {
	for month := time.January; month <= time.March && a.err == nil; month++ {
		var list []reading
		for at := time.Date(2025, month, 1, 3, 0, 0, 0, time.UTC); at.Month() == month; at = at.Add(6 * time.Hour) {
			for lock := 1; lock <= 24; lock += 4 {
				r := reading{
					Lock:  fmt.Sprintf("L%02d", lock),
					At:    at.UnixMicro(),
					Level: int32(200 + 10*lock + a.pick(90)),
				}
				if a.pick(400) == 0 {
					r.Level = -999
				}
				if a.pick(3) > 0 {
					gauge := a.of("float", "staff")
					r.Gauge = &gauge
				}
				list = append(list, r)
			}
		}
		a.err = parquet.WriteFile(
			filepath.Join(a.dir, fmt.Sprintf("gauges/2025-%02d.parquet", month)),
			list,
			parquet.Compression(&parquet.Zstd),
		)
	}
}

// staff writes the database of the keepers.
func (a *authority) staff() {
	if a.err != nil {
		return
	}
	file := filepath.Join(a.dir, "staff.db")
	if a.err = os.RemoveAll(file); a.err != nil {
		return
	}
	conn, err := sqlite.OpenConn(file, sqlite.OpenReadWrite|sqlite.OpenCreate)
	if err != nil {
		a.err = err
		return
	}
	defer conn.Close()
	a.err = sqlitex.ExecuteScript(
		conn,
		"create table keeper (keeper_no text primary key, name text not null, grade text, room text)",
		nil,
	)
	for _, row := range a.staffRows {
		if a.err == nil {
			a.err = sqlitex.Execute(
				conn,
				"insert into keeper (keeper_no, name, grade) values (?, ?, ?)",
				&sqlitex.ExecOptions{Args: row},
			)
		}
	}
}
