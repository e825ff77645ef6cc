package standin

import (
	"crypto/rand"
	"encoding/hex"
	"net/http"
	"slices"
	"strconv"
	"strings"

	textjson "paletwin/core/jsontext"
	"paletwin/internal/odata"
)

// batchJSON is the answer in JSON: one to each request.
func (c *call) batchJSON(items []*item) *answer {
	b := make([]byte, 0, 64+256*len(items))
	b = append(b, `{"responses":[`...)
	first := true
	for _, x := range items {
		if x.answer == nil {
			continue
		}
		if !first {
			b = append(b, ',')
		}
		first = false
		b = x.appendJSON(b)
	}
	a := newAnswer(http.StatusOK)
	a.body = append(b, "]}"...)
	a.set("Content-Type", "application/json")
	c.applied(a)
	return a
}

// appendJSON appends what a request of the batch got.
func (x *item) appendJSON(b []byte) []byte {
	b = append(b, '{')
	b = appendMember(b, "id", x.id)
	if x.group != "" {
		b = append(b, ',')
		b = appendMember(b, "atomicityGroup", x.group)
	}
	b = append(b, `,"status":`...)
	b = strconv.AppendInt(b, int64(x.answer.status), 10)
	if len(x.answer.header) > 0 {
		b = append(b, `,"headers":{`...)
		for i, h := range x.answer.header {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendMember(b, strings.ToLower(h.Name), h.Value)
		}
		b = append(b, '}')
	}
	if len(x.answer.body) > 0 {
		b = append(b, `,"body":`...)
		if strings.Contains(x.answer.header.Get("Content-Type"), "json") {
			b = append(b, x.answer.body...)
		} else {
			b = textjson.AppendString(b, string(x.answer.body))
		}
	}
	return append(b, '}')
}

// applied says that the batch went on behind errors, if it was asked to.
func (c *call) applied(a *answer) {
	if c.prefer.Said {
		a.set("Preference-Applied", "continue-on-error="+strconv.FormatBool(c.prefer.ContinueOnError))
	}
}

// batchMultipart is the answer in parts: what was not come to has none, and a group that failed
// has one for all its members.
func (s *Service) batchMultipart(c *call, items []*item) *answer {
	w := &parts{boundary: "batchresponse_" + random(), lower: s.hasMood("lower-headers")}
	if s.hasMood("bare-boundary") {
		w.boundary = "batch:" + random() + "=?" // signs that would have to be in quotes
	}
	for i := 0; i < len(items); {
		x := items[i]
		if x.group == "" {
			if x.answer != nil && x.answer != notReached {
				w.part(x.id, x.answer)
			}
			i++
			continue
		}
		n := 1
		for i+n < len(items) && items[i+n].group == x.group {
			n++
		}
		w.group(items[i : i+n])
		i += n
	}
	w.end()
	a := newAnswer(http.StatusOK)
	a.body = w.b
	t := "multipart/mixed; boundary=" + w.boundary
	if s.hasMood("quoted-boundary") {
		t = `multipart/mixed; boundary="` + w.boundary + `"`
	}
	a.set("Content-Type", t)
	c.applied(a)
	return a
}

func random() string {
	var b [9]byte
	_, _ = rand.Read(b[:]) // which never fails
	return hex.EncodeToString(b[:])
}

// parts writes a multipart body.
type parts struct {
	b        []byte
	boundary string
	lower    bool // headers of parts in small letters
}

func (w *parts) header(name, value string) {
	if w.lower {
		name = strings.ToLower(name)
	}
	w.b = append(w.b, name+": "+value+"\r\n"...)
}

func (w *parts) begin() { w.b = append(w.b, "--"+w.boundary+"\r\n"...) }

func (w *parts) part(id string, a *answer) {
	w.begin()
	w.header("Content-Type", "application/http")
	w.header("Content-Transfer-Encoding", "binary")
	if id != "" {
		w.header("Content-ID", id)
	}
	w.b = append(w.b, "\r\n"...)
	w.b = odata.AppendResponse(w.b, a.status, a.header, a.body)
	w.b = append(w.b, "\r\n"...)
}

func (w *parts) group(members []*item) {
	failed := slices.IndexFunc(members, func(x *item) bool {
		return x.answer == nil || x.answer.status >= 400 && (x.answer.failed == nil || x.answer.failed.code != "GroupFailed")
	})
	if failed > 0 && members[0].answer != nil && members[0].answer.status < 400 { // hollow
		members, failed = members[:failed+1], -1
	}
	if failed >= 0 {
		if x := members[failed]; x.answer != nil && x.answer != notReached {
			w.part(x.id, x.answer)
		}
		return
	}
	inner := &parts{boundary: "changesetresponse_" + random(), // by which some clients know them
		lower: w.lower}
	for _, x := range members {
		inner.part(x.id, x.answer)
	}
	inner.end()
	w.begin()
	w.header("Content-Type", "multipart/mixed; boundary="+inner.boundary)
	w.b = append(w.b, "\r\n"...)
	w.b = append(append(w.b, inner.b...), "\r\n"...)
}

func (w *parts) end() { w.b = append(w.b, "--"+w.boundary+"--\r\n"...) }
