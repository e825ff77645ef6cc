package refs

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Moves at once come to what a person comes to who takes rows out and puts them in one after the other, from below.
func TestMovesAreOneAfterTheOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const most = 14
		gone := rapid.SliceOfNDistinct(rapid.IntRange(1, most), 0, 6, func(n int) int { return n }).Draw(t, "gone")
		in := rapid.MapOfN(rapid.IntRange(0, most), rapid.IntRange(1, 3), 0, 4).Draw(t, "in")
		top := rapid.IntRange(1, most).Draw(t, "top")
		bottom := rapid.IntRange(top, most).Draw(t, "bottom")
		m := NewMoves(gone, in)
		a, z := top, bottom
		rows := make([]int, most+1) // what each row is
		for i := range rows {
			rows[i] = i
		}
		for after := most; after >= 0; after-- {
			if n := in[after]; n > 0 {
				rows = slices.Insert(rows, after+1, slices.Repeat([]int{-after - 1}, n)...)
				if after < a {
					a, z = a+n, z+n
				} else if after < z {
					z += n
				}
			}
		}
		for _, n := range slices.Backward(slices.Sorted(slices.Values(gone))) {
			at := slices.Index(rows, n)
			rows = slices.Delete(rows, at, at+1)
			switch {
			case at < a:
				a, z = a-1, z-1
			case at <= z:
				z--
			}
		}
		first, last, ok := m.Rows(top, bottom)
		require.Equal(t, a <= z, ok, "%v %v %d-%d", gone, in, top, bottom)
		if ok {
			require.Equal(t, []int{a, z}, []int{first, last}, "%v %v %d-%d", gone, in, top, bottom)
		}
		for n := 1; n <= most; n++ {
			to, stays := m.Row(n)
			require.Equal(t, !slices.Contains(gone, n), stays)
			if stays {
				require.Equal(t, slices.Index(rows, n), to)
			}
			if in[n] > 0 {
				require.Equal(t, slices.Index(rows, -n-1), m.Put(n))
			}
		}
	})
}

// Row 5 is taken out, and a row put in behind row 8.
func TestFormulasFollowTheirCells(t *testing.T) {
	s := &Shift{Sheet: "Aid's list", Moves: NewMoves([]int{5}, map[int]int{8: 1})}
	for formula, want := range map[string]string{
		"B4*2":                              "B4*2",
		"B5*2":                              "#REF!*2",
		"b6*$C$6+D$7":                       "b5*$C$5+D$6",
		"SUM(B2:B9)":                        "SUM(B2:B9)",
		"SUM(B2:B8)":                        "SUM(B2:B7)",
		"SUM(B5:B5)+SUM(B5:B7)":             "SUM(#REF!)+SUM(B5:B6)",
		"SUM(B7:B2)":                        "SUM(B6:B2)",
		"'Aid''s list'!A6":                  "'Aid''s list'!A5",
		"'aid''S LIST'!A6":                  "'aid''S LIST'!A5",
		"Depots!A6":                         "Depots!A6",
		"Depots!A6+A6":                      "Depots!A6+A5",
		"Depots:Crew!A6":                    "Depots:Crew!A6",
		"'Depots:Crew'!A6":                  "'Depots:Crew'!A6",
		"[1]Depots!A6":                      "[1]Depots!A6",
		"'[1]Aid''s list'!A6":               "'[1]Aid''s list'!A6",
		`"B6 ""B7"""&B6`:                    `"B6 ""B7"""&B5`,
		"6:9":                               "5:9",
		"$5:$5":                             "#REF!",
		"A:C":                               "A:C",
		"LOG10(B6)+LOG6(1)":                 "LOG10(B5)+LOG6(1)",
		"Fees[[#This Row],[B6]]+B6":         "Fees[[#This Row],[B6]]+B5",
		"Fees[a']b]+B6":                     "Fees[a']b]+B5",
		"#REF!+B6":                          "#REF!+B5",
		"#N/A":                              "#N/A",
		"rate_B6+B6x+_B6+B6.5":              "rate_B6+B6x+_B6+B6.5",
		"XFD6+XFE6":                         "XFD5+XFE6",
		"A1048576+A1048577":                 "A1048576+A1048577",
		"A6:INDEX(B:B,6)":                   "A5:INDEX(B:B,6)",
		"{6,7;8,9}":                         "{6,7;8,9}",
		"1.5E6+6":                           "1.5E6+6",
		"A6#":                               "A5#",
		"@A6":                               "@A5",
		"A1:A1048576":                       "A1:A1048576",
		"Größe6+B6":                         "Größe6+B5",
		"IF(A6>1,Depots!B6:B9,B6:B9) B7,B8": "IF(A5>1,Depots!B6:B9,B5:B9) B6,B7",
	} {
		assert.Equal(t, want, s.Formula(formula, "Aid's list"), formula)
	}
	assert.Equal(t, "B6", s.Formula("B6", "Depots"))
	assert.Equal(t, "A2:A4 C5", s.List("A2:A5 B5 C6"))
}

func TestOffsetsFollow(t *testing.T) {
	assert.Equal(t, "C5+$B6+C$4+$B$4+SUM(E:F,$D:E)+Depots!E:E", Offset("B4+$B5+B$4+$B$4+SUM(D:E,$D:D)+Depots!D:D", 1, 1))
	assert.Equal(t, "SUM(D:E)", Offset("SUM(D:E)", 1, 0))
	assert.Equal(t, "#REF!", Offset("A1", -1, 0))
	assert.Equal(t, "#REF!", Offset("A1", 0, -1))
	assert.Equal(t, "Depots!A3", Offset("Depots!A1", 2, 0))
}

// A formula that is rewritten by moves of nothing is the same, and one that is moved there and back, too.
func FuzzFormula(f *testing.F) {
	for _, s := range []string{"B4*2", "'a''b'!A1:B2", `"x"&[1]S!A1`, "T[[#This Row],[a]]", "1:2", "#REF!", "A1:Ä", "'", "[", "\"", "$", "A$"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, formula string) {
		if got := Each(formula, func(r *Ref) (string, bool) { return r.String(), true }); len(formula) < 1000 && got != formula {
			// A row may be written with zeros before it, never otherwise.
			t.Fatalf("%q became %q", formula, got)
		}
		if down := Offset(formula, 3, 0); !strings.Contains(down, gone) {
			if back := Offset(down, -3, 0); back != formula {
				t.Fatalf("%q went to %q, and came back as %q", formula, down, back)
			}
		}
	})
}

// Row 5 is taken out of Noor's aids.
func TestFormulasOfOpenDocumentFollowTheirCells(t *testing.T) {
	s := &Shift{Sheet: "Noor's aids", Moves: NewMoves([]int{5}, nil)}
	for formula, want := range map[string]string{
		"of:=[.B6]*2":                                 "of:=[.B5]*2",
		"of:=[.B5]*2":                                 "of:=[.#REF!]*2",
		"of:=SUM([.B2:.B9];[.$C$6])":                  "of:=SUM([.B2:.B8];[.$C$5])",
		"of:=SUM([.B5:.B5])":                          "of:=SUM([.#REF!:.#REF!])",
		"of:=[$Depots.B6]+[Depots.B6:.C9]":            "of:=[$Depots.B6]+[Depots.B6:.C9]",
		"of:=[$'Noor''s aids'.B6:.C9]":                "of:=[$'Noor''s aids'.B5:.C8]",
		"of:=[$'Noor''s aids'.B6:$'noor''s AIDS'.C9]": "of:=[$'Noor''s aids'.B5:$'noor''s AIDS'.C8]",
		"of:=['file:///a b.ods'#$'Noor''s aids'.B6]":  "of:=['file:///a b.ods'#$'Noor''s aids'.B6]",
		"of:=COUNTA([.6:.9])+SUM([.A:.C])":            "of:=COUNTA([.5:.8])+SUM([.A:.C])",
		`of:="[.B6]"&[.B6]`:                           `of:="[.B6]"&[.B5]`,
		"of:=[.#REF!]+[.B6]":                          "of:=[.#REF!]+[.B5]",
		"of:=[$'Noor''s aids'.A6:$Depots.B9]":         "of:=[$'Noor''s aids'.A6:$Depots.B9]",
		"of:={1;2|[":                                  "of:={1;2|[",
		"of:cell-content-is-in-list([.$D$6:.$D$9])":   "of:cell-content-is-in-list([.$D$5:.$D$8])",
		"of:is-true-formula([.B6]>[.$C$5])":           "of:is-true-formula([.B5]>[.#REF!])",
	} {
		assert.Equal(t, want, s.Open(formula, "Noor's aids"), formula)
	}
	for list, want := range map[string]string{
		"'Noor''s aids'.A2:'Noor''s aids'.E9":   "'Noor''s aids'.A2:'Noor''s aids'.E8",
		"$'Noor''s aids'.$A$6:.$E$9":            "$'Noor''s aids'.$A$5:.$E$8",
		"'Noor''s aids'.A5 Depots.A5 Depots.B6": "Depots.A5 Depots.B6",
		"'Noor''s aids'.A6 'Noor''s aids'.B7":   "'Noor''s aids'.A5 'Noor''s aids'.B6",
		"no list":                               "no list",
		"":                                      "",
	} {
		assert.Equal(t, want, s.Addresses(list, ""), list)
	}
}

func TestOffsetsOfOpenDocument(t *testing.T) {
	assert.Equal(t, "of:=[.B5]+[.$C$4]+[$Aids.D1:.D$9]", OffsetOpen("of:=[.B7]+[.$C$4]+[$Aids.D3:.D$9]", -2))
	assert.Equal(t, "of:=[.#REF!]", OffsetOpen("of:=[.B1]", -1))
}

func FuzzOpenFormula(f *testing.F) {
	for _, s := range []string{"of:=[.B6]", "[$'a''b'.A1:.B2]", "'x'#$a.A1", "[", "['", "[.A", "a.A1 b.B2:b.C3"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, formula string) {
		s := &Shift{Sheet: "a", Moves: &Moves{}}
		if got := s.Open(formula, "a"); got != formula {
			t.Fatalf("%q became %q", formula, got)
		}
		down := (&Shift{Sheet: "a", Moves: NewMoves(nil, map[int]int{0: 3})}).Open(formula, "a")
		if back := (&Shift{Sheet: "a", Moves: NewMoves([]int{1, 2, 3}, nil)}).Open(down, "a"); back != formula && !strings.Contains(down, gone) {
			t.Fatalf("%q went to %q, and came back as %q", formula, down, back)
		}
	})
}
