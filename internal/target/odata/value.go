package odata

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf16"

	"github.com/go-json-experiment/json/jsontext"

	textjson "paletwin/core/jsontext"
	"paletwin/core/record"
	"paletwin/internal/odata"
)

// This file writes values as the service's types have them in JSON and in URLs (JSON Format 7.1, ABNF).

var (
	guid       = regexp.MustCompile(`^[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}$`)
	duration   = regexp.MustCompile(`^-?P(\d+D)?(T(\d+H)?(\d+M)?(\d+(\.\d+)?S)?)?$`)
	clock      = regexp.MustCompile(`^\d\d:\d\d(:\d\d(\.\d{1,12})?)?$`)
	base64Text = regexp.MustCompile(`^[-_A-Za-z0-9+/]*={0,2}$`)
)

// appendJSON appends a value as the property has it in JSON. tells says that null and the empty text are two
// values; else a blank one is null, where the property may be. The error says in words why the property cannot have it.
func (p *property) appendJSON(dst []byte, v record.Value, tells bool) ([]byte, error) {
	if v.IsNull() || v.Blank() && (p.Type != "Edm.String" || p.Collection || !tells && p.Nullable) {
		if !p.Nullable && !p.Collection {
			return dst, fmt.Errorf("cannot be empty")
		}
		if p.Collection {
			return append(dst, "[]"...), nil
		}
		return append(dst, "null"...), nil
	}
	text := v.String()
	none := func() error { return fmt.Errorf("is %s, and %s is none", p.words(), strconv.Quote(text)) }
	kind := odata.String
	quoted := true
	switch p.Type {
	case "Edm.String":
		if n, err := strconv.Atoi(p.MaxLength); err == nil && len(utf16.Encode([]rune(text))) > n && !p.Collection {
			return dst, fmt.Errorf("takes %d characters, and %s has %d", n, strconv.Quote(text), len([]rune(text)))
		}
	case "Edm.Boolean":
		kind, quoted, text = odata.Boolean, false, strings.ToLower(text)
	case "Edm.Int64":
		kind = odata.Int64
	case "Edm.Int32", "Edm.Int16", "Edm.Byte", "Edm.SByte":
		kind, quoted = odata.Int64, false
	case "Edm.Decimal":
		kind = odata.Decimal
	case "Edm.Double", "Edm.Single":
		if text == "NaN" || text == "INF" || text == "-INF" {
			return strconv.AppendQuote(dst, text), nil
		}
		kind, quoted = odata.Decimal, false
	case "Edm.Date":
		kind = odata.Date
	case "Edm.DateTimeOffset":
		kind = odata.DateTimeOffset
	default:
		form := map[string]*regexp.Regexp{"Edm.Guid": guid, "Edm.Duration": duration, "Edm.TimeOfDay": clock, "Edm.Binary": base64Text}[p.Type]
		if form != nil && !form.MatchString(text) {
			return dst, none()
		}
	}
	if p.Structured {
		if !jsontext.Value(v.String()).IsValid() {
			return dst, fmt.Errorf("is %s, and is to be JSON, which %s is not", p.words(), strconv.Quote(v.String()))
		}
		return append(dst, v.String()...), nil
	}
	if kind == odata.String {
		return textjson.AppendString(dst, text), nil
	}
	one, ok := odata.Parse(text, kind)
	if !ok && kind == odata.Int64 { // 7.00 is a whole number
		if d, isNumber := odata.Parse(text, odata.Decimal); isNumber {
			one, ok = d.As(odata.Int64)
		}
	}
	if !ok {
		return dst, none()
	}
	return one.AppendJSON(dst, quoted), nil
}

// literal is a value as it stands in a URL.
func (p *property) literal(text string) odata.Value {
	switch {
	case p.Enumeration:
		return odata.Value{Kind: odata.Int64, Text: p.Type + "'" + strings.ReplaceAll(text, "'", "''") + "'"} // whose text is taken as it is
	case p.Type == "Edm.Duration", p.Type == "Edm.Binary":
		return odata.Value{Kind: odata.Int64, Text: strings.ToLower(strings.TrimPrefix(p.Type, "Edm.")) + "'" + text + "'"}
	case p.Type == "Edm.String":
		return odata.Text(text)
	}
	return odata.Value{Kind: odata.Int64, Text: text}
}

// path is where a record is, by its key as it stands there.
func (s *Set) path(key record.Key) string {
	var names []string
	var values []odata.Value
	for i, text := range key.Parts() {
		p := &s.typ.properties[s.key[i]]
		names, values = append(names, p.Name), append(values, p.literal(text))
	}
	return string(odata.AppendKey([]byte(odata.Escape(s.at.Set)), names, values))
}
