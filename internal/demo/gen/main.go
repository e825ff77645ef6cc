// Command gen writes the demo's data into internal/demo/data. It is run by
// hand (go generate ./internal/demo) when the world of the examples changes;
// its output is committed, and the same every time.
package main

import (
	"encoding/csv"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"paletwin/core/wear"
)

func main() {
	w := newWorld(os.Args[1])
	w.depots()
	w.staff()
	aids := w.aids()
	w.visits(aids)
	w.round(aids)
}

type world struct {
	dir string
	r   *rand.Rand
}

func newWorld(dir string) *world { return &world{dir, rand.New(rand.NewPCG(1887, 417))} }

func (w *world) write(name string, rows [][]string) {
	f, err := os.Create(filepath.Join(w.dir, name))
	if err != nil {
		log.Fatal(err)
	}
	cw := csv.NewWriter(f)
	if err := cw.WriteAll(rows); err != nil {
		log.Fatal(err)
	}
	if err := f.Close(); err != nil {
		log.Fatal(err)
	}
}

var (
	places   = []string{"Saltreach", "Gannet Point", "Tarn Mouth", "Cold Harbour Spit", "The Nags", "Wether Bank", "Old Pier", "Merrow Channel", "Skerry Ledge", "Lantern Rock", "Foxtail Shoal", "Heron Steps"}
	suffixes = []string{"North", "South", "East", "West", "Inner", "Outer", "Head", "Gate", "Fairway", "Middle", "Elbow", "Knoll", "Reach", "Bar", "Hook", "Tail", "Turn", "Landing", "Narrows", "Sound"}
	depots   = []string{"D01", "D02", "D03", "D04", "D05", "D06", "D07", "D08"}
	people   = []string{"Åsa Brandvold", "Iñaki Urroz", "Noor el-Amrani", "Petr Šimek", "Mairead Ó Dálaigh", "Tomasz Zięba", "Lina Okoye", "Jürgen Haas", "Anaïs Carvalho", "Dilnoza Yusupova", "Eino Räsänen", "Kwame Boateng", "Sunniva Dahl", "Rhys Morgan-Lloyd"}
	lights   = []string{"Fl R 5s", "Fl G 5s", "Fl(2) R 10s", "Fl(3) G 15s", "Q", "VQ(6)+LFl 10s", "Iso W 4s", "LFl 10s", "Oc W 6s", "Mo(A) 8s"}
	cells    = []string{"MAR-2", "OCT-4", "SEP07", "DEC1", "3-4", "2E5", "1E5", "JUN/3", "1-2", "12E3", "NOV-11", "APR1"}
	remarks  = []string{"", "", "", "", "Bell removed, spare in store", `Painted "signal red" in spring`, "Mooring chain due; see visit sheet", "Zięba: battery weak below 11.9 V",
		"Café side of the pier, mind the steps", "Sector edge checked\nagainst the leading line", "Topmark missing since the gale", "Seabirds nest here from April to July"}
)

var heading = []string{"aid_no", "name", "kind", "zone", "chart_cell", "latitude", "longitude", "light", "range_nm", "depot", "keeper", "serial_no", "beacon_id", "installed", "next_service",
	"service_fee", "fee_ex_dues", "fee_inc_dues", "seasonal", "status", "remarks", "entered_at", "entered_by", "updated_at"}

func col(name string) int { return slices.Index(heading, name) }

func pick[T any](r *rand.Rand, from []T) T { return from[r.IntN(len(from))] }

func (w *world) depots() {
	rows := [][]string{{"code", "name", "phone"}}
	for i, d := range depots {
		rows = append(rows, []string{d, places[i] + " depot", fmt.Sprintf("020 7946 0%03d", 110+7*i)})
	}
	w.write("depots.csv", rows)
}

func (w *world) staff() {
	rows := [][]string{{"staff_id", "name", "active"}}
	for i, p := range people {
		rows = append(rows, []string{fmt.Sprintf("U-%d", 1004+i), p, fmt.Sprint(i != 9)})
	}
	w.write("staff.csv", rows)
}

// block is the first row of the nine aids that are handed over.
const block = 45

func (w *world) aids() [][]string {
	rows := [][]string{heading}
	no := 100
	for i := range 240 {
		no += 1 + w.r.IntN(5)
		rows = append(rows, w.aid(no, i))
	}
	for i := block; i < block+9; i++ { // nine aids along one channel are in the care of one depot
		rows[i][col("depot")] = "D03"
	}
	rows[block-1][col("depot")], rows[block+9][col("depot")] = "D01", "D05"
	w.write("aids.csv", rows)
	return rows
}

func (w *world) aid(no, i int) []string {
	r := w.r
	kind := pick(r, []string{"buoy", "buoy", "buoy", "beacon", "light", "perch"})
	light, reach := "", ""
	if kind == "light" || kind != "perch" && r.IntN(3) > 0 {
		light, reach = pick(r, lights), fmt.Sprintf("%d.%d", 2+r.IntN(14), 5*r.IntN(2))
	}
	fee := fmt.Sprintf("%d.%02d", 40+r.IntN(260), 10*r.IntN(10))
	ex, inc := "", ""
	switch r.IntN(5) {
	case 0:
		ex = fmt.Sprintf("%d.00", 10+r.IntN(40))
	case 1:
		inc = fmt.Sprintf("%d.50", 12+r.IntN(40))
	}
	installed := time.Date(1996, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, r.IntN(10000))
	service := time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, r.IntN(300))
	entered := installed.AddDate(0, 0, 3).Add(time.Duration(r.IntN(36000)) * time.Second)
	status := "in_service"
	switch r.IntN(12) {
	case 0:
		status = "laid_up"
	case 1:
		status = "off_station"
	}
	return []string{fmt.Sprintf("%05d", no), places[i%12] + " " + suffixes[i/12], kind, pick(r, []string{"inner", "outer", "estuary", "roads"}), pick(r, cells),
		fmt.Sprintf("57.%05d", 10000+r.IntN(80000)), fmt.Sprintf("-2.%05d", 10000+r.IntN(80000)), light, reach, pick(r, depots), fmt.Sprintf("U-%d", 1004+r.IntN(14)),
		fmt.Sprintf("2031%012d", r.Int64N(1e12)), fmt.Sprintf("%09d", 230000000+r.IntN(9999999)), installed.Format(time.DateOnly), service.Format(time.DateOnly),
		fee, ex, inc, fmt.Sprint(r.IntN(6) == 0), status, pick(r, remarks), entered.Format("2006-01-02T15:04:05Z"), fmt.Sprintf("U-%d", 1004+r.IntN(14)), "2026-09-28T06:00:00Z"}
}

func (w *world) visits(aids [][]string) {
	rows := [][]string{{"aid_no", "due", "crew", "planned_hours", "audited_hours", "outcome"}}
	for _, a := range aids[1:] {
		due := time.Date(2025, 3, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, w.r.IntN(60))
		for range 2 + w.r.IntN(3) {
			planned := 2 + w.r.IntN(9)
			rows = append(rows, []string{a[0], due.Format(time.DateOnly), "crew " + pick(w.r, []string{"A", "B", "C"}), fmt.Sprint(planned), fmt.Sprintf("%d.%d", planned+w.r.IntN(3)-1, 5*w.r.IntN(2)),
				pick(w.r, []string{"done", "done", "done", "weather", "partly"})})
			due = due.AddDate(0, 5, w.r.IntN(40))
		}
	}
	w.write("visits.csv", rows)
}

// round makes the edited copy and the register, which a colleague changed
// meanwhile.
func (w *world) round(aids [][]string) {
	edited := make([][]string, len(aids))
	for i, a := range aids {
		edited[i] = slices.Clone(a)
	}
	set := func(i int, field, v string) { edited[i][col(field)] = v }
	handed, outer, ranged := []int{}, []int{}, 0
	for i, a := range aids[1:] {
		i++
		if a[col("zone")] == "outer" {
			set(i, "service_fee", up4(a[col("service_fee")]))
			outer = append(outer, i)
		}
		if i >= block && i < block+9 {
			set(i, "depot", "D07")
			handed = append(handed, i)
		}
		if a[col("kind")] == "light" && ranged < 6 && i > 60 {
			set(i, "range_nm", remeasured(a[col("range_nm")]))
			ranged++
		}
	}
	for _, i := range []int{33, 77, 121, 165, 209} {
		set(i, "status", "withdrawn")
	}
	for i, text := range map[int]string{18: "Bell refitted", 52: "Mooring chain renewed in October", 140: "Topmark replaced, \"St Brannock\" pattern", 201: "Battery changed; 12.6 V"} {
		set(i, "remarks", text)
	}
	set(98, "status", "")
	set(block+9, "depot", "D07")                                                         // the fill went one row too far
	set(outer[20], "service_fee", hundredfold(up4(aids[outer[20]][col("service_fee")]))) // a fee without its point
	set(150, "depot", "D70")                                                             // there is no such depot
	edited = append(edited, newAid("01201", "Merrow Channel Gannet", "D02", "118.00"), newAid("01202", "Old Pier Leading", "D07", "96.50"), newAid("01203", "Wether Bank Spar", "D05", "72.00"))
	edited = slices.Delete(edited, 186, 187)
	edited = slices.Delete(edited, 64, 65)
	total := make([]string, len(heading))
	total[col("name")], total[col("service_fee")] = "Total", "41318.70"
	w.write("autumn-round.csv", saved(append(edited, total)))

	register := make([][]string, len(aids))
	for i, a := range aids {
		register[i] = slices.Clone(a)
	}
	for _, i := range []int{outer[12], handed[4]} {
		register[i][col("updated_at")] = "2026-10-05T14:31:00Z"
	}
	register[outer[12]][col("service_fee")] = "155.00"
	register[handed[4]][col("depot")] = "D01"
	w.write("register.csv", register)
}

// saved is what a spreadsheet program under en-GB makes of a table that it
// opens and saves as CSV.
func saved(rows [][]string) [][]string {
	h := wear.Habit{Locale: wear.FindLocale("en-GB"), Special: true, Store: wear.Shown, Year: 2026}
	for _, row := range rows {
		for i := range row {
			row[i], _ = h.Wear(row[i])
		}
	}
	return rows
}

func newAid(no, name, depot, fee string) []string {
	return []string{no, name, "buoy", "inner", "SEP07", "57.40118", "-2.31207", "Fl G 5s", "3.0", depot, "U-1008", "2031604400" + no + "7", "230999" + no[2:], "2026-10-01", "2027-04-15",
		fee, "", "", "false", "in_service", "", "2026-10-05T09:00:00Z", "U-1008", ""}
}

// up4 is a fee of two decimals raised by 4 %, rounded half up to the cent.
func up4(fee string) string {
	var whole, cents int
	if _, err := fmt.Sscanf(fee, "%d.%d", &whole, &cents); err != nil {
		log.Fatal(err)
	}
	n := ((whole*100+cents)*104 + 50) / 100
	return fmt.Sprintf("%d.%02d", n/100, n%100)
}

// hundredfold is a fee whose point was not typed.
func hundredfold(fee string) string { return strings.Replace(fee, ".", "", 1) + ".00" }

func remeasured(reach string) string {
	whole, _, _ := strings.Cut(reach, ".")
	var n int
	if _, err := fmt.Sscan(whole, &n); err != nil {
		log.Fatal(err)
	}
	return fmt.Sprintf("%d.%d", n+1, 2)
}
