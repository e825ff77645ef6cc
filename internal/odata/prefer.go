package odata

import (
	"mime"
	"strconv"
	"strings"
	"time"
)

// Preferences is what a Prefer header asks for (RFC 7240, and Protocol 8.2.8).
type Preferences struct {
	Return          string // "minimal", "representation" or ""
	MaxPageSize     int    // 0 is not said
	ContinueOnError bool
	RespondAsync    bool
	Wait            time.Duration
	Said            bool // whether continue-on-error was said at all
}

// ParsePrefer reads the Prefer headers. What it does not know it passes over, as
// the standard asks.
func ParsePrefer(h Headers) (p Preferences) {
	for _, line := range h {
		if !strings.EqualFold(line.Name, "Prefer") {
			continue
		}
		for _, item := range splitHeader(line.Value, ',') {
			name, value, has := strings.Cut(splitHeader(item, ';')[0], "=")
			name = strings.TrimPrefix(strings.ToLower(strings.TrimSpace(name)), "odata.")
			value = strings.Trim(strings.TrimSpace(value), `"`)
			switch name {
			case "return":
				if value == "minimal" || value == "representation" {
					p.Return = value
				}
			case "maxpagesize":
				if n, err := strconv.Atoi(value); err == nil && n > 0 {
					p.MaxPageSize = n
				}
			case "continue-on-error":
				p.ContinueOnError, p.Said = !has || strings.EqualFold(value, "true"), true
			case "respond-async":
				p.RespondAsync = true
			case "wait":
				if n, err := strconv.Atoi(value); err == nil && n >= 0 && n < 1e6 {
					p.Wait = time.Duration(n) * time.Second
				}
			}
		}
	}
	return p
}

// splitHeader splits a header's value where sep stands outside quotes.
func splitHeader(s string, sep byte) []string {
	var all []string
	quoted, start := false, 0
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quoted:
			i++
		case s[i] == '"':
			quoted = !quoted
		case s[i] == sep && !quoted:
			all, start = append(all, strings.TrimSpace(s[start:i])), i+1
		}
	}
	return append(all, strings.TrimSpace(s[start:]))
}

// MediaType is what an Accept header, or $format, names: a type, and how much of it.
type MediaType struct {
	Type       string // lower case
	Parameters map[string]string
	Quality    float64
}

// ParseAccept reads an Accept header, in its order. What cannot be read is left out.
func ParseAccept(line string) (all []MediaType) {
	for _, item := range splitHeader(line, ',') {
		t, params, err := mime.ParseMediaType(item)
		if err != nil {
			continue
		}
		m := MediaType{t, map[string]string{}, 1}
		for k, v := range params {
			m.Parameters[strings.TrimPrefix(strings.ToLower(k), "odata.")] = v
		}
		if q, err := strconv.ParseFloat(m.Parameters["q"], 64); err == nil {
			m.Quality = q
		}
		all = append(all, m)
	}
	return all
}

// ParseETags reads an If-Match or If-None-Match header. any is the asterisk. Tags come
// without W/ and quotes, since OData's are weak and are compared so.
func ParseETags(line string) (tags []string, any bool) {
	for _, item := range splitHeader(line, ',') {
		if item == "*" {
			return nil, true
		}
		if item != "" {
			tags = append(tags, BareETag(item))
		}
	}
	return tags, false
}

// BareETag is an ETag without its W/ and its quotes.
func BareETag(tag string) string {
	tag = strings.TrimSpace(tag)
	tag = strings.TrimPrefix(strings.TrimPrefix(tag, "W/"), "w/")
	return strings.Trim(tag, `"`)
}
