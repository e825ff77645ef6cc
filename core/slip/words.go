package slip

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// rowWords names rows as a spreadsheet counts them: "row 42", "rows 12–41",
// "rows 3, 9 and 17".
func (j *judge) rowWords(rows []uint32) string {
	nums := make([]int, len(rows))
	for i, r := range rows {
		nums[i] = j.Table.RowNumber(r)
	}
	slices.Sort(nums)
	var parts []string
	for i := 0; i < len(nums); {
		k := i
		for k+1 < len(nums) && nums[k+1] == nums[k]+1 {
			k++
		}
		if k > i+1 {
			parts = append(parts, fmt.Sprintf("%d–%d", nums[i], nums[k]))
		} else {
			for _, n := range nums[i : k+1] {
				parts = append(parts, fmt.Sprint(n))
			}
		}
		i = k + 1
	}
	const most = 6
	if len(parts) > most {
		return fmt.Sprintf("%d rows between %d and %d", len(nums), nums[0], nums[len(nums)-1])
	}
	word := "rows "
	if len(nums) == 1 {
		word = "row "
	}
	if n := len(parts); n > 1 {
		return word + strings.Join(parts[:n-1], ", ") + " and " + parts[n-1]
	}
	return word + parts[0]
}

// say writes a value for a sentence.
func say(v string) string {
	const most = 40
	switch {
	case v == "":
		return "empty"
	case utf8.RuneCountInString(v) > most:
		v = string([]rune(v)[:most-1]) + "…"
	}
	if strings.ContainsAny(v, " ,;\n") || strings.TrimSpace(v) != v {
		return fmt.Sprintf("%q", v)
	}
	return v
}

// times writes a ratio: "× 1.04".
func times(ppm int64) string {
	s := fmt.Sprintf("%d.%03d", ppm/million, ppm%million/1000)
	return "× " + strings.TrimRight(strings.TrimRight(s, "0"), ".")
}
