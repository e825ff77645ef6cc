package xlsx

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A cell that is read at a glance is what it is element by element.
func TestCellsAtAGlance(t *testing.T) {
	pieces := []string{`<c r="A7" s="3" t="s"><v>12</v></c>`, `<c><v>2.5</v></c>`, `<c/>`, `<c r="C7"/>`, `<c r="D7" s="1"></c>`, `<c t="inlineStr"><is><t>a _x000D_ b</t></is></c>`,
		`<c t="inlineStr"><is><t xml:space="preserve"> a </t></is></c>`, `<c t="str"><f>A1&amp;B1</f><v>x &lt; y</v></c>`, `<c cm="1" vm='2'><v>1</v></c>`, `<c s="99999999999"><v>1E5</v></c>`, ` `, `<!-- <c><v>1</v></c> -->`,
		`<c t="e"><v>#N/A</v></c>`, `<c t="inlineStr"><is><r><t>rich</t></r><rPh><t>no</t></rPh></is></c>`, `<c><v><![CDATA[7]]></v></c>`, `<c  r="Z7"  ><v>1</v></c >`, `<extLst><c><v>0</v></c></extLst>`, `<c t="b"><v>1</v><extLst/></c>`, `<col/>`}
	rapid.Check(t, func(t *rapid.T) {
		row := []byte(strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 6).Draw(t, "cells"), "") + `</row>`)
		read := func(next func(*cells, *cell) (bool, error)) (all []cell, failed bool) {
			var walk cells
			walk.over(7, nil, row)
			for {
				var c cell
				more, err := next(&walk, &c)
				if err != nil || !more {
					return all, err != nil
				}
				all = append(all, c)
			}
		}
		glance, failed := read((*cells).next)
		slow, failedToo := read(func(walk *cells, to *cell) (bool, error) {
			for walk.at < len(row) && !strings.HasPrefix(string(row[walk.at:]), "</row>") {
				if is, err := walk.slow(to); is || err != nil {
					return err == nil, err
				}
			}
			return false, nil
		})
		require.Equal(t, failedToo, failed, "%s", row)
		if !failed {
			require.Equal(t, slow, glance, "%s", row)
		}
	})
}
