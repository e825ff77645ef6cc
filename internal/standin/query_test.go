package standin

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/big"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// aid is a row of aids.csv, as encoding/csv reads it.
type aid map[string]string

func aids(t testing.TB) (all []aid) {
	f, err := os.Open("../demo/data/aids.csv")
	require.NoError(t, err)
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	for _, r := range rows[1:] {
		a := aid{}
		for i, h := range rows[0] {
			a[h] = r[i]
		}
		all = append(all, a)
	}
	return all
}

// truth is true, false, or not known.
type truth int

const (
	no truth = iota
	unknown
	yes
)

// question is an expression as text, and what it is to say of a record, worked out with other means: big.Rat,
// time, strings.
type question struct {
	text string
	of   func(a aid) truth
}

func is(b bool) truth {
	if b {
		return yes
	}
	return no
}

// compared makes a comparison of a field with a constant. cmp is given what is in the field, which is filled.
func compared(t *rapid.T, field, literal string, cmp func(v string) int) question {
	op := rapid.SampledFrom([]string{"eq", "ne", "gt", "ge", "lt", "le"}).Draw(t, "op")
	text := fmt.Sprintf("%s %s %s", field, op, literal)
	if rapid.IntRange(0, 3).Draw(t, "turned") == 0 {
		text = fmt.Sprintf("%s %s %s", literal, map[string]string{"eq": "eq", "ne": "ne", "gt": "lt", "ge": "le", "lt": "gt", "le": "ge"}[op], field)
	}
	return question{text, func(a aid) truth {
		if a[field] == "" {
			return is(op == "ne")
		}
		c := cmp(a[field])
		return is(map[string]bool{"eq": c == 0, "ne": c != 0, "gt": c > 0, "ge": c >= 0, "lt": c < 0, "le": c <= 0}[op])
	}}
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// leaf draws a question about one field.
func leaf(t *rapid.T, some []aid) question {
	a := rapid.SampledFrom(some).Draw(t, "aid")
	switch rapid.IntRange(0, 7).Draw(t, "leaf") {
	case 0:
		f := rapid.SampledFrom([]string{"aid_no", "name", "zone", "chart_cell", "remarks", "keeper"}).Draw(t, "text")
		return compared(t, f, quote(a[f]+rapid.SampledFrom([]string{"", "", "é", "'"}).Draw(t, "more")), func(string) int { return 0 }).with(f)
	case 1:
		f := rapid.SampledFrom([]string{"service_fee", "latitude", "fee_ex_dues", "range_nm"}).Draw(t, "number")
		lit := a[f]
		if lit == "" {
			lit = "1"
		}
		lit += rapid.SampledFrom([]string{"", "", "e0"}).Draw(t, "form")
		want, _ := new(big.Rat).SetString(lit)
		return compared(t, f, lit, func(v string) int { x, _ := new(big.Rat).SetString(v); return x.Cmp(want) })
	case 2:
		f := rapid.SampledFrom([]string{"installed", "next_service"}).Draw(t, "date")
		lit := a[f]
		if lit == "" {
			lit = "2000-02-29"
		}
		return compared(t, f, lit, func(v string) int { return strings.Compare(v, lit) })
	case 3:
		at, err := time.Parse(time.RFC3339, a["entered_at"])
		if err != nil {
			at = start
		}
		lit := at.In(time.FixedZone("", 2*3600)).Format(time.RFC3339)
		return compared(t, "entered_at", lit, func(v string) int { x, _ := time.Parse(time.RFC3339, v); return x.Compare(at) })
	case 4:
		f := rapid.SampledFrom([]string{"name", "remarks", "light"}).Draw(t, "text")
		part := []rune(a[f])
		from := rapid.IntRange(0, len(part)).Draw(t, "from")
		cut := string(part[from:rapid.IntRange(from, len(part)).Draw(t, "to")])
		fn := rapid.SampledFrom([]string{"contains", "startswith", "endswith"}).Draw(t, "function")
		return question{fmt.Sprintf("%s(%s,%s)", fn, f, quote(cut)), func(a aid) truth {
			if a[f] == "" {
				return unknown
			}
			return is(map[string]func(a, b string) bool{"contains": strings.Contains, "startswith": strings.HasPrefix, "endswith": strings.HasSuffix}[fn](a[f], cut))
		}}
	case 5:
		f := rapid.SampledFrom([]string{"remarks", "light", "fee_inc_dues", "keeper", "aid_no"}).Draw(t, "field")
		op := rapid.SampledFrom([]string{"eq", "ne"}).Draw(t, "op")
		return question{f + " " + op + " null", func(a aid) truth { return is((a[f] == "") == (op == "eq")) }}
	case 6:
		b := rapid.SampledFrom(some).Draw(t, "other")
		f := rapid.SampledFrom([]string{"zone", "kind", "depot", "aid_no"}).Draw(t, "field")
		return question{fmt.Sprintf("%s in (%s, %s)", f, quote(a[f]), quote(b[f])), func(c aid) truth { return is(c[f] == a[f] || c[f] == b[f]) }}
	}
	f := rapid.SampledFrom([]string{"service_fee", "range_nm"}).Draw(t, "number")
	by := rapid.SampledFrom([]string{"2", "0.5", "-3"}).Draw(t, "factor")
	want, _ := new(big.Rat).SetString("250.5")
	factor, _ := new(big.Rat).SetString(by)
	return question{fmt.Sprintf("%s mul %s add 1 gt 250.5", f, by), func(a aid) truth {
		x, ok := new(big.Rat).SetString(a[f])
		if !ok {
			return no
		}
		x.Mul(x, factor)
		return is(x.Add(x, big.NewRat(1, 1)).Cmp(want) > 0)
	}}
}

// with compares texts with the constant that the question's text has.
func (q question) with(field string) question {
	parts := strings.SplitN(q.text, "'", 2)
	turned := parts[0] == ""
	lit := q.text[strings.Index(q.text, "'")+1 : strings.LastIndex(q.text, "'")]
	lit = strings.ReplaceAll(lit, "''", "'")
	words := strings.Fields(parts[0])
	op := ""
	if turned {
		rest := strings.Fields(q.text[strings.LastIndex(q.text, "'")+1:])
		op = map[string]string{"eq": "eq", "ne": "ne", "gt": "lt", "ge": "le", "lt": "gt", "le": "ge"}[rest[0]]
	} else {
		op = words[1]
	}
	return question{q.text, func(a aid) truth {
		if a[field] == "" {
			return is(op == "ne")
		}
		c := strings.Compare(a[field], lit)
		return is(map[string]bool{"eq": c == 0, "ne": c != 0, "gt": c > 0, "ge": c >= 0, "lt": c < 0, "le": c <= 0}[op])
	}}
}

// drawn draws a question of several.
func drawn(t *rapid.T, some []aid, depth int) question {
	if depth == 0 {
		return leaf(t, some)
	}
	a := drawn(t, some, depth-1)
	switch rapid.IntRange(0, 3).Draw(t, "logic") {
	case 0:
		b := drawn(t, some, depth-1)
		return question{"(" + a.text + ") and (" + b.text + ")", func(x aid) truth { return min(a.of(x), b.of(x)) }}
	case 1:
		b := drawn(t, some, depth-1)
		return question{"(" + a.text + ") or (" + b.text + ")", func(x aid) truth { return max(a.of(x), b.of(x)) }}
	case 2:
		return question{"not (" + a.text + ")", func(x aid) truth { return yes - a.of(x) }}
	}
	return a
}

type listed struct {
	Value []map[string]json.RawMessage
	Next  string `json:"@odata.nextLink"`
	Count *int   `json:"@odata.count"`
}

// Whatever is asked, in whatever order and pages: it is what a walk over the file gives.
func TestQueriesAgainstTheFile(t *testing.T) {
	all := aids(t)
	dir := harbour(t)
	plain := serve(t, open(t, dir, "", Options{Page: 50}))
	odd := serve(t, open(t, dir, "", Options{Page: 7, Moods: []*Mood{{Name: "offset-paging"}, {Name: "relative-links"}, {Name: "empty-last-page"}}}))
	rapid.Check(t, func(t *rapid.T) {
		q := drawn(t, all, rapid.IntRange(0, 3).Draw(t, "depth"))
		field := rapid.SampledFrom([]string{"", "name", "zone", "kind", "depot"}).Draw(t, "order")
		down := rapid.Bool().Draw(t, "down")
		var want []aid
		for _, a := range all {
			if q.of(a) == yes {
				want = append(want, a)
			}
		}
		slices.SortStableFunc(want, func(a, b aid) int {
			c := 0
			if field != "" {
				if c = strings.Compare(a[field], b[field]); down {
					c = -c
				}
			}
			if c == 0 {
				c = strings.Compare(a["aid_no"], b["aid_no"])
			}
			return c
		})
		matched := len(want)
		query := url.Values{"$filter": {q.text}, "$count": {"true"}, "$select": {"aid_no"}}
		if field != "" {
			query.Set("$orderby", field+map[bool]string{true: " desc", false: ""}[down])
		}
		if n := rapid.IntRange(-1, 40).Draw(t, "skip"); n >= 0 {
			query.Set("$skip", fmt.Sprint(n))
			want = want[min(n, len(want)):]
		}
		if n := rapid.IntRange(-1, 60).Draw(t, "top"); n >= 0 {
			query.Set("$top", fmt.Sprint(n))
			want = want[:min(n, len(want))]
		}
		server := rapid.SampledFrom([]string{plain.URL, odd.URL}).Draw(t, "server")
		host := strings.TrimPrefix(server, "http://")
		got := []string{}
		for next := "/aids?" + query.Encode(); next != ""; {
			r, err := try(host, "GET "+next, "Prefer: maxpagesize=13")
			require.NoError(t, err)
			require.Equal(t, 200, r.status, r.body)
			var page listed
			require.NoError(t, json.Unmarshal([]byte(r.body), &page))
			require.Equal(t, matched, *page.Count, q.text)
			for _, x := range page.Value {
				var no string
				require.NoError(t, json.Unmarshal(x["aid_no"], &no))
				got = append(got, no)
			}
			if next = page.Next; next != "" {
				next = "/" + strings.TrimPrefix(next, server+"/")
			}
		}
		numbers := []string{}
		for _, a := range want {
			numbers = append(numbers, a["aid_no"])
		}
		require.Equal(t, numbers, got, q.text)
	})
}

// Records that are deleted and added between pages neither hide others nor bring them twice.
func TestPagesWhileRecordsMove(t *testing.T) {
	dir := harbour(t)
	rapid.Check(t, func(t *rapid.T) {
		s := openFor(t, dir, "", Options{})
		defer s.Close()
		server := newServer(s)
		defer server.Close()
		host := strings.TrimPrefix(server.URL, "http://")
		before := look(t, host, "visits")
		gone := map[string]bool{}
		seen := map[string]bool{}
		next := "/visits" + rapid.SampledFrom([]string{"", "?$orderby=crew desc", "?$filter=planned_hours gt 2"}).Draw(t, "query")
		filtered := strings.Contains(next, "filter")
		for next != "" {
			r, err := try(host, "GET "+next, "Prefer: maxpagesize=150")
			require.NoError(t, err)
			var page listed
			require.NoError(t, json.Unmarshal([]byte(r.body), &page))
			for _, x := range page.Value {
				fields := map[string]string{"aid_no": string(x["aid_no"]), "due": string(x["due"])}
				at := "visits" + keyIn(fields, []string{"aid_no", "due"})
				require.False(t, seen[at], "%s is there twice", at)
				seen[at] = true
			}
			if next = page.Next; next != "" {
				next = strings.TrimPrefix(next, server.URL)
			}
			for url := range before {
				if rapid.IntRange(0, 99).Draw(t, "delete") < 2 {
					r, err := try(host, "DELETE /"+url)
					require.NoError(t, err)
					require.Contains(t, []int{204, 404}, r.status)
					gone[url] = true
				}
				break
			}
			_, err = try(host, "POST /visits", "Content-Type: application/json", "", fmt.Sprintf(`{"aid_no":"00102","due":"2030-01-%02d"}`, rapid.IntRange(1, 31).Draw(t, "day")))
			require.NoError(t, err)
		}
		for url, fields := range before {
			hours := fields["planned_hours"]
			if !gone[url] && !(filtered && (hours == "null" || hours == "1" || hours == "2")) {
				require.True(t, seen[url], "%s was lost between pages", url)
			}
		}
	})
}
