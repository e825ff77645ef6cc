package record

import "strings"

// Texts keeps texts of which there are very many: side by side in large pieces of memory, each without room of its own. A piece
// stays as long as one of its texts is used. A nil *Texts keeps each by itself.
type Texts struct{ b strings.Builder }

// pieceSize is how many bytes a piece has, once there are many texts. One that would take much of it has a piece of its own.
const pieceSize = 64 << 10

// Keep returns a copy of a text.
func (t *Texts) Keep(text []byte) string {
	if t == nil || len(text) > pieceSize/8 {
		return string(text)
	}
	if len(text) > t.b.Cap()-t.b.Len() {
		size := min(2*t.b.Cap()+len(text), pieceSize)
		t.b = strings.Builder{}
		t.b.Grow(size)
	}
	n := t.b.Len()
	t.b.Write(text)
	return t.b.String()[n:]
}

// Key returns the key, kept among the texts.
func (t *Texts) Key(k Key) Key {
	if t != nil {
		var room [64]byte
		k.enc = t.Keep(append(room[:0], k.enc...))
	}
	return k
}
