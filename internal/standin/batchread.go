package standin

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"

	"paletwin/internal/odata"
)

// readMultipart reads the requests of a multipart batch.
func (b *batchRun) readMultipart(body []byte, contentType string) error {
	err := odata.ReadParts(body, contentType, func(p odata.Part) {
		group := ""
		if p.Group > 0 {
			group = "group-" + itoa(p.Group)
		}
		b.take(readPart(p, group))
	})
	if err != nil {
		return badRequest("%v", err)
	}
	return nil
}

func readPart(p odata.Part, group string) *item {
	x := &item{id: p.ID, group: group}
	m, err := odata.ReadRequest(p.Body)
	if err != nil {
		x.wrong = badRequest("a part of the batch is no request: %v", err)
		return x
	}
	if x.id == "" { // where some clients put it
		x.id = strings.Trim(m.Header.Get("Content-ID"), "<>")
	}
	x.method, x.url, x.header, x.body = m.Method, m.URL, m.Header, m.Body
	return x
}

// readJSON reads the requests of a batch in JSON (JSON Format 19).
func (b *batchRun) readJSON(body []byte) error {
	d, done := decoder(body, jsontext.AllowDuplicateNames(true)) // the last counts; those of records are looked at
	defer done()
	there := false
	err := odata.Members(d, func(name string) error {
		if name != "requests" {
			return d.SkipValue()
		}
		there = true
		return odata.Elements(d, func() error {
			x, err := readItem(d, body)
			if err == nil {
				b.take(x)
			}
			return err
		})
	})
	if err == nil && !there {
		err = errors.New("it has none")
	}
	if err != nil {
		return badRequest(`the batch is no JSON object with "requests": %v`, err)
	}
	return nil
}

var decoders = sync.Pool{New: func() any { return &bufferedDecoder{} }}

type bufferedDecoder struct {
	b bytes.Buffer
	d jsontext.Decoder
}

// decoder reads JSON; done is to be called when what it gave is not needed any more.
func decoder(body []byte, o ...jsontext.Options) (d *jsontext.Decoder, done func()) {
	x := decoders.Get().(*bufferedDecoder)
	x.b = *bytes.NewBuffer(body)
	x.d.Reset(&x.b, o...)
	return &x.d, func() {
		x.b = bytes.Buffer{}
		x.d.Reset(&x.b)
		decoders.Put(x)
	}
}

// readItem reads a request of a batch in JSON.
func readItem(d *jsontext.Decoder, whole []byte) (*item, error) {
	x := &item{}
	err := odata.Members(d, func(name string) (err error) {
		switch name {
		case "id":
			x.id, err = plain(d)
		case "atomicityGroup":
			x.group, err = plain(d)
		case "method":
			x.method, err = plain(d)
		case "url":
			x.url, err = plain(d)
		case "dependsOn":
			err = odata.Elements(d, func() error {
				on, err := plain(d)
				x.after = append(x.after, on)
				return err
			})
		case "headers":
			err = odata.Members(d, func(name string) error {
				v, err := plain(d)
				x.header = append(x.header, odata.Header{Name: name, Value: v})
				return err
			})
		case "body":
			var v jsontext.Value
			v, err = d.ReadValue()
			end := d.InputOffset()
			x.body = whole[end-int64(len(v)) : end]
		default:
			err = d.SkipValue()
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	x.method = strings.ToUpper(x.method)
	if x.method == "" || x.url == "" {
		x.wrong = badRequest("a request of the batch needs a method and a url")
	}
	if t := x.header.Get("Content-Type"); len(x.body) > 0 && x.body[0] == '"' && t != "" && !strings.Contains(t, "json") {
		x.unwrap(t)
	}
	return x, nil
}

// unwrap reads a body that is no JSON: a text as a JSON string, anything else in base64url.
func (x *item) unwrap(contentType string) {
	var s string
	_ = json.Unmarshal(x.body, &s) // which was read as JSON already
	x.body = []byte(s)
	if strings.HasPrefix(contentType, "text/") {
		return
	}
	b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
	if err != nil {
		x.wrong = badRequest("the body of request %s is no base64url", x.id)
	}
	x.body = b
}

// plain reads a JSON string's text, and a number or another word as it stands.
func plain(d *jsontext.Decoder) (string, error) {
	if d.PeekKind() == '"' {
		v, err := d.ReadValue()
		return odata.Unquoted(v), err
	}
	t, err := d.ReadToken()
	if err != nil {
		return "", err
	}
	switch t.Kind() {
	case '{', '[':
		return "", errors.New("a text is expected, not an object or a list")
	}
	return t.String(), nil
}
