package xlsx

import (
	"bytes"
	"errors"
	"fmt"

	"paletwin/core/table/xmlscan"
)

// cell is a cell of a row, as it is written.
type cell struct {
	raw   []byte // the whole element
	tag   []byte // its start tag
	col   int    // from 0
	typ   string // "n" where none is said
	style int

	value    string // of <v>, or the text that stands in the cell
	formula  string
	computed bool
}

// cells walks the cells of a row.
type cells struct {
	row int
	b   []byte // what is inside the row, its end tag included
	at  int
	col int // of the cell before
	// How the elements are written: "<c", "<v>", "</v></c>", "</c>", "<is><t>", "</t></is></c>", with the prefix of the row's.
	open, value, end, shut, text, textEnd []byte
}

// over has c walk what is inside a row, which has the given prefix, one that names no element or ends in a colon.
func (c *cells) over(row int, prefix, inside []byte) {
	if c.open == nil || len(c.open) != len("<c")+len(prefix) {
		p := string(prefix)
		c.open, c.shut = []byte("<"+p+"c"), []byte("</"+p+"c>")
		c.value, c.end = []byte("<"+p+"v>"), []byte("</"+p+"v></"+p+"c>")
		c.text, c.textEnd = []byte("<"+p+"is><"+p+"t>"), []byte("</"+p+"t></"+p+"is></"+p+"c>")
	}
	c.row, c.b, c.at, c.col = row, inside, 0, -1
}

// rewrite returns what is inside a row with other cells: each appends what a cell becomes, and is asked once more, without
// one, where the cells end. What stands between cells stays.
func rewrite(row int, prefix, inside []byte, each func(out []byte, c *cell) ([]byte, error)) ([]byte, error) {
	var walk cells
	walk.over(row, prefix, inside)
	out := make([]byte, 0, len(inside)+64)
	var c cell
	for {
		from := walk.at
		more, err := walk.next(&c)
		if err != nil {
			return nil, err
		}
		if !more {
			if out, err = each(out, nil); err != nil {
				return nil, err
			}
			return append(out, inside[from:]...), nil
		}
		out = append(out, inside[from:walk.at-len(c.raw)]...)
		if out, err = each(out, &c); err != nil {
			return nil, err
		}
	}
}

// errCell says that a cell cannot be read.
var errCell = errors.New("a cell is not as cells are")

// next moves to the next cell; false says that there is none. What is no cell is passed over.
func (c *cells) next(to *cell) (bool, error) {
	for {
		i := bytes.IndexByte(c.b[c.at:], '<')
		if i < 0 || c.at+i+1 < len(c.b) && c.b[c.at+i+1] == '/' {
			return false, nil
		}
		c.at += i
		if done, err := c.plain(to); done || err != nil {
			return err == nil, err
		}
		cell, err := c.slow(to)
		if cell || err != nil {
			return err == nil, err
		}
	}
}

// place takes in where the cell stands.
func (c *cells) place(r []byte, to *cell) error {
	to.col = c.col + 1
	if r != nil {
		col, ok := column(r)
		if !ok || col < to.col {
			return fmt.Errorf("row %d has a cell %q out of order", c.row, r)
		}
		to.col = col
	}
	if to.col >= maxColumns {
		return fmt.Errorf("row %d has more than %d columns", c.row, maxColumns)
	}
	c.col = to.col
	return nil
}

// plain reads a cell as nearly all are written: nothing but a value, or nothing at all.
func (c *cells) plain(to *cell) (bool, error) {
	b := c.b[c.at:]
	if !bytes.HasPrefix(b, c.open) {
		return false, nil
	}
	var r, s, t []byte
	i := len(c.open)
	if i == len(b) || b[i] != ' ' && b[i] != '>' && b[i] != '/' {
		return false, nil // another name
	}
	for {
		for i < len(b) && b[i] == ' ' {
			i++
		}
		if i+1 >= len(b) || b[i] == '>' || b[i] == '/' {
			break
		}
		name := b[i]
		if b[i+1] != '=' { // an attribute that is none of these
			eq := bytes.IndexByte(b[i:], '=')
			if eq < 0 || bytes.IndexByte(b[i:i+eq], '>') >= 0 {
				return false, nil
			}
			name = 0
			i += eq - 1
		}
		if i+2 >= len(b) || b[i+2] != '"' {
			return false, nil
		}
		end := bytes.IndexByte(b[i+3:], '"')
		if end < 0 {
			return false, nil
		}
		value := b[i+3 : i+3+end]
		switch name {
		case 'r':
			r = value
		case 's':
			s = value
		case 't':
			t = value
		}
		i += end + 4
	}
	to.value, to.formula, to.computed = "", "", false
	switch {
	case i+1 < len(b) && b[i] == '/' && b[i+1] == '>':
		i += 2
		to.tag = b[:i]
	case i < len(b) && b[i] == '>':
		i++
		to.tag = b[:i]
		end, text := c.end, false
		switch {
		case bytes.HasPrefix(b[i:], c.shut):
			i += len(c.shut)
			end = nil
		case bytes.HasPrefix(b[i:], c.value):
			i += len(c.value)
		case bytes.HasPrefix(b[i:], c.text):
			i += len(c.text)
			end, text = c.textEnd, true
		default:
			return false, nil
		}
		if end == nil {
			break
		}
		n := bytes.IndexByte(b[i:], '<')
		if n < 0 || !bytes.HasPrefix(b[i+n:], end) {
			return false, nil
		}
		value := b[i : i+n]
		if bytes.IndexByte(value, '&') >= 0 || bytes.IndexByte(value, '\r') >= 0 {
			return false, nil
		}
		if to.value = string(value); text {
			to.value = unescape(to.value)
		}
		i += n + len(end)
	default:
		return false, nil
	}
	to.raw, to.typ, to.style = b[:i], typeOf(t), small(s)
	c.at += i
	return true, c.place(r, to)
}

// slow reads an element of whatever form; false says that it is no cell.
func (c *cells) slow(to *cell) (bool, error) {
	b := c.b[c.at:]
	x := xmlscan.Over(b)
	k, err := x.Next()
	if err != nil {
		return false, err
	}
	if k != xmlscan.Open {
		c.at += max(x.Offset(), 1)
		return false, nil
	}
	if !x.Is("c") {
		err := x.Skip()
		c.at += x.Offset()
		return false, err
	}
	to.tag = b[bytes.LastIndexByte(b[:x.Offset()], '<'):x.Offset()]
	if err := c.place(x.RawAttr("r"), to); err != nil {
		return false, err
	}
	to.typ, to.style = typeOf(x.RawAttr("t")), small(x.RawAttr("s"))
	to.value, to.formula, to.computed, err = cellParts(x)
	to.raw = b[:x.Offset()]
	c.at += x.Offset()
	return true, err
}
