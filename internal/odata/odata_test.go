package odata

import (
	"encoding/json"
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// someValue draws a value of any kind but null.
var someValue = rapid.Custom(func(t *rapid.T) Value {
	switch rapid.IntRange(0, 5).Draw(t, "kind") {
	case 0:
		return Text(rapid.StringOf(rapid.RuneFrom([]rune("ab'\"/?#%+&=,()\\ \n\té漢🚢\u2028"))).Draw(t, "text"))
	case 1:
		return True(rapid.Bool().Draw(t, "bool"))
	case 2:
		return Value{Int64, fmt.Sprint(rapid.Int64().Draw(t, "int"))}
	case 3:
		return Value{Decimal, rapid.StringMatching(`-?(0|[1-9][0-9]{0,18})\.[0-9]{1,6}`).Draw(t, "decimal")}
	case 4:
		return Value{Date, time.Unix(rapid.Int64Range(-1e10, 1e11).Draw(t, "day"), 0).UTC().Format(time.DateOnly)}
	}
	zone := time.FixedZone("", rapid.IntRange(-14*60, 14*60).Draw(t, "zone")*60)
	return Value{DateTimeOffset, time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "moment"), rapid.Int64Range(0, 999999999).Draw(t, "ns")).In(zone).Format(time.RFC3339Nano)}
})

// A value is the same behind JSON, in either form of numbers, behind a literal and behind a key in a URL.
func TestValuesComeBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := someValue.Draw(t, "value")
		for _, quoted := range []bool{false, true} {
			b := v.AppendJSON(nil, quoted)
			require.True(t, json.Valid(b), "%s", b)
			got, err := ReadJSON(b, v.Kind)
			require.NoError(t, err)
			require.Equal(t, v, got)
		}
		got, err := ParseLiteral(v.Literal())
		require.NoError(t, err)
		require.True(t, v.Same(got), "%v %v", v, got)
		require.Equal(t, v.Canonical(), got.Canonical())
		w := someValue.Draw(t, "other")
		names := []string{"a", "b_1"}
		path := "set" + string(AppendKey(nil, names, []Value{v, w})) + "/x"
		segments, err := SplitPath(path)
		require.NoError(t, err)
		require.Len(t, segments, 2, path)
		inner := strings.TrimSuffix(strings.TrimPrefix(segments[0], "set("), ")")
		parts, err := ParseKey(inner)
		require.NoError(t, err, inner)
		require.Len(t, parts, 2, inner)
		for i, want := range []Value{v, w} {
			require.Equal(t, names[i], parts[i].Name)
			got, err := ParseLiteral(parts[i].Text)
			require.NoError(t, err)
			require.True(t, want.Same(got), "%s: %v %v", inner, want, got)
		}
	})
}

// Values are ordered as big.Rat and time order them, and equal ones have one canonical text.
func TestOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v, w := someValue.Draw(t, "v"), someValue.Draw(t, "w")
		c, ok := v.Compare(w)
		switch {
		case v.Kind.Numeric() && w.Kind.Numeric():
			a, _ := new(big.Rat).SetString(v.Text)
			b, _ := new(big.Rat).SetString(w.Text)
			require.True(t, ok)
			require.Equal(t, a.Cmp(b), c)
		case v.Kind != w.Kind:
			require.False(t, ok)
			return
		case v.Kind == DateTimeOffset:
			a, err := time.Parse(time.RFC3339Nano, v.Text)
			require.NoError(t, err)
			b, err := time.Parse(time.RFC3339Nano, w.Text)
			require.NoError(t, err)
			require.Equal(t, a.Compare(b), c)
		default:
			require.Equal(t, strings.Compare(v.Text, w.Text), c)
		}
		require.Equal(t, c == 0, v.Canonical() == w.Canonical())
	})
}

// What is no value is refused; numbers with exponents are written out, and none of a size that would fill the memory.
func TestWhatIsNoValue(t *testing.T) {
	for text, k := range map[string]Kind{`"x"`: Int64, `1.5`: Int64, `9223372036854775808`: Int64, `true`: String, `"true"`: Boolean, `12`: Date, `"2026-02-30"`: Date, `"2026-01-01T10:00:00"`: DateTimeOffset,
		`1e999999999`: Decimal, `{}`: String, `[1]`: Decimal, ``: String, `"1e5000"`: Decimal} {
		_, err := ReadJSON([]byte(text), k)
		require.Error(t, err, text)
	}
	for text, want := range map[string]Value{"1e3": {Int64, "1000"}, "-2.5E-3": {Decimal, "-0.0025"}, "'it''s'": Text("it's"), "2026-01-01T10:00Z": {DateTimeOffset, "2026-01-01T10:00:00Z"}, "null": {}, "2026-01-01t10:00:00z": {DateTimeOffset, "2026-01-01T10:00:00Z"}} {
		got, err := ParseLiteral(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got)
	}
	for _, text := range []string{"'a", "'a'b'", "duration'P1D'", "INF", "", "+1", "1.", ".5"} {
		_, err := ParseLiteral(text)
		require.Error(t, err, text)
	}
}

// Requests and responses come back as they were written, in groups and outside of them.
func TestPartsComeBack(t *testing.T) {
	text := rapid.StringMatching(`[ -~é]{1,30}[!-~]`)
	rapid.Check(t, func(t *rapid.T) {
		var all []Message
		var groups []int
		var b strings.Builder
		n := rapid.IntRange(1, 6).Draw(t, "parts")
		group := 0
		for range n {
			m := Message{Method: "PATCH", URL: "aids('" + rapid.StringMatching(`[a-z0-9 %]{0,8}`).Draw(t, "key") + "')", Status: rapid.IntRange(200, 599).Draw(t, "status")}
			m.Header = Headers{{"Content-Type", "application/json"}, {"If-Match", `W/"` + rapid.StringMatching(`[a-z0-9]{1,9}`).Draw(t, "tag") + `"`}}
			if rapid.Bool().Draw(t, "body") {
				m.Body = []byte(`{"x":"` + text.Draw(t, "text") + `"}`)
			}
			all = append(all, m)
			raw := string(AppendRequest(nil, m.Method, m.URL, m.Header, m.Body))
			if rapid.Bool().Draw(t, "response") {
				all[len(all)-1].Method, all[len(all)-1].URL = "", ""
				raw = string(AppendResponse(nil, m.Status, m.Header, m.Body))
			} else {
				all[len(all)-1].Status = 0
			}
			part := "Content-Type: application/http\r\nContent-ID: x\r\n\r\n" + raw + "\r\n"
			b.WriteString("--out\r\n")
			if rapid.Bool().Draw(t, "group") {
				group++
				groups = append(groups, group)
				b.WriteString("content-type: Multipart/Mixed; boundary=\"in side\"\r\n\r\n--in side\r\n" + part + "--in side--\r\n")
				continue
			}
			groups = append(groups, 0)
			b.WriteString(part)
		}
		i := 0
		err := ReadParts([]byte(b.String()+"--out--"), "multipart/mixed; boundary=out", func(p Part) {
			want := all[i]
			var got *Message
			var err error
			if want.Method != "" {
				got, err = ReadRequest(p.Body)
			} else {
				got, err = ReadResponse(p.Body)
			}
			require.NoError(t, err)
			if n := got.Header.Get("content-length"); n != "" {
				require.Equal(t, fmt.Sprint(len(want.Body)), n)
				got.Header.Delete("CONTENT-LENGTH")
			}
			require.Equal(t, want, *got)
			require.Equal(t, "x", p.ID)
			require.Equal(t, groups[i], p.Group)
			i++
		})
		require.NoError(t, err)
		require.Equal(t, n, i)
	})
}

func TestPreferences(t *testing.T) {
	p := ParsePrefer(Headers{{"prefer", `return=minimal; x="a,b", odata.maxpagesize=5,foo`}, {"Prefer", "Respond-Async, wait=3"}, {"Prefer", "odata.continue-on-error=false"}})
	require.Equal(t, Preferences{Return: "minimal", MaxPageSize: 5, RespondAsync: true, Wait: 3 * time.Second, Said: true}, p)
	require.True(t, ParsePrefer(Headers{{"Prefer", "continue-on-error"}}).ContinueOnError)
	tags, any := ParseETags(`W/"a", "b" , w/"c"`)
	require.False(t, any)
	require.Equal(t, []string{"a", "b", "c"}, tags)
	_, any = ParseETags(" *")
	require.True(t, any)
	all := ParseAccept("text/html;q=0.5, application/json;odata.metadata=full;IEEE754Compatible=true, nonsense")
	require.Len(t, all, 3)
	require.Equal(t, 0.5, all[0].Quality)
	require.Equal(t, "full", all[1].Parameters["metadata"])
	require.Equal(t, "true", all[1].Parameters["ieee754compatible"])
}
