package ods

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// move moves what an element and those inside point at; false says that it goes, since nothing is left of it.
func (e *edit) move(n *xmlscan.Node, on string) bool {
	offset := 0
	if at, ok := n.Attr("base-cell-address"); ok && (n.Name == "content-validation" || n.Name == "conditional-format") {
		offset = e.gap(at)
	}
	n.Kids = slices.DeleteFunc(n.Kids, func(k *xmlscan.Node) bool {
		if k.Name == "" {
			return false
		}
		if k.Name == "condition" {
			if value, ok := k.Attr("value"); ok {
				if at, ok := k.Attr("base-cell-address"); ok && offset == 0 {
					offset = e.gap(at)
				}
				k.SetAttr("value", e.shift.Open(refs.OffsetOpen(value, offset), on))
			}
		}
		return !e.move(k, on)
	})
	for _, attr := range []string{"formula", "expression", "condition"} {
		if old, ok := n.Attr(attr); ok {
			if now := e.shift.Open(refs.OffsetOpen(old, offset), on); now != old {
				n.SetAttr(attr, now)
			}
		}
	}
	for _, attr := range addresses {
		old, ok := n.Attr(attr)
		if !ok {
			continue
		}
		now := e.shift.Addresses(old, on)
		switch {
		case now == old:
			continue
		case now != "":
		case attr == "target-range-address":
			return false
		case attr == "cell-range-address" && n.Name == "named-range":
			now = strings.Trim(e.shift.Open("["+old+"]", on), "[]")
		case attr == "base-cell-address":
			now = e.next(old)
		default:
			n.DropAttr(attr)
			continue
		}
		n.SetAttr(attr, now)
	}
	return true
}

// addresses are attributes that are addresses of cells, or lists of them.
var addresses = []string{"cell-range-address", "target-range-address", "base-cell-address", "end-cell-address", "cell-address", "print-ranges",
	"values-cell-range-address", "label-cell-address", "notify-on-update-of-ranges", "source-cell-range-addresses"}

var baseRow = regexp.MustCompile(`^(.*\.\$?[A-Za-z]+\$?)([0-9]+)$`)

// gap is how many rows behind a cell the next one is that stays; 0 where it stays itself, or is of another sheet.
func (e *edit) gap(address string) int {
	m := baseRow.FindStringSubmatch(address)
	if m == nil || e.shift.Addresses(address, "") != "" {
		return 0
	}
	row, err := strconv.Atoi(m[2])
	if err != nil {
		return 0
	}
	n := row
	for n <= maxRows && e.Gone(n) {
		n++
	}
	return n - row
}

// next is where the cell stands that takes the place of one that goes.
func (e *edit) next(address string) string {
	m := baseRow.FindStringSubmatch(address)
	if m == nil {
		return address
	}
	row, err := strconv.Atoi(m[2])
	if err != nil {
		return address
	}
	to, _ := e.Row(row)
	return m[1] + strconv.Itoa(to)
}

// tag is a start tag whose attributes follow the rows that move.
func (e *edit) tag(raw []byte, on string) []byte {
	if e.None() {
		return raw
	}
	for _, attr := range []string{"formula", "expression", "condition"} {
		if from, to := xmlscan.AttrIn(raw, attr); from >= 0 {
			old := string(xmlscan.Decode(raw[from:to]))
			if now := e.shift.Open(old, on); now != old {
				raw = xmlscan.SetAttr(raw, attr, now)
			}
		}
	}
	for _, attr := range addresses {
		if from, to := xmlscan.AttrIn(raw, attr); from >= 0 {
			old := string(xmlscan.Decode(raw[from:to]))
			switch now := e.shift.Addresses(old, on); {
			case now == "" && old != "":
				raw = xmlscan.DropAttr(raw, attr)
			case now != old:
				raw = xmlscan.SetAttr(raw, attr, now)
			}
		}
	}
	return raw
}

// tags is a piece of a document whose tags follow the rows that move.
func (e *edit) tags(piece []byte, on string) ([]byte, error) {
	return eachTag(piece, func(raw []byte) []byte { return e.tag(raw, on) })
}

// eachTag is a piece of a document with other start tags.
func eachTag(piece []byte, change func(raw []byte) []byte) ([]byte, error) {
	x := xmlscan.Over(piece)
	x.Keep()
	var out []byte
	for {
		k, err := x.Next()
		if err != nil {
			return nil, err
		}
		raw := x.Raw()
		if k == xmlscan.Open {
			raw = change(raw)
		}
		if out = append(out, raw...); k == xmlscan.End {
			return out, nil
		}
	}
}
