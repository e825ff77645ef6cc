package odata

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
)

// Part is a part of a multipart batch: a request or response, or a group of
// them (Parts).
type Part struct {
	ID     string // its Content-ID
	Body   []byte // of one that is no group
	Parts  []Part // of a group
	Group  bool
	Header textproto.MIMEHeader
}

// ReadParts reads the parts of a multipart body, and those of the groups in
// it. Parts may lack headers, and have blank lines before them.
func ReadParts(body []byte, contentType string) ([]Part, error) { return readParts(body, contentType, 0) }

func readParts(body []byte, contentType string, depth int) ([]Part, error) {
	boundary, err := boundaryOf(contentType)
	if err != nil {
		return nil, err
	}
	var all []Part
	r := multipart.NewReader(bytes.NewReader(body), boundary)
	for {
		p, err := r.NextRawPart()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, fmt.Errorf("part %d of the batch cannot be read: the boundary %q is not closed, or its headers are none", len(all)+1, boundary)
		}
		b, err := io.ReadAll(p)
		if err != nil {
			return nil, fmt.Errorf("part %d of the batch is cut off: no boundary %q ends it", len(all)+1, boundary)
		}
		part := Part{Header: p.Header, Body: b}
		if len(p.Header) == 0 { // a blank line stood before them, or there are none
			if h, rest, ok := lateHeader(b); ok {
				part.Header, part.Body = h, rest
			}
		}
		part.ID = strings.Trim(strings.TrimSpace(part.Header.Get("Content-ID")), "<>")
		if t := part.Header.Get("Content-Type"); strings.HasPrefix(strings.ToLower(strings.TrimSpace(t)), "multipart/") {
			if depth > 0 {
				return nil, errors.New("a group within a group of a batch is not allowed")
			}
			if part.Parts, err = readParts(part.Body, t, depth+1); err != nil {
				return nil, err
			}
			part.Group, part.Body = true, nil
		}
		all = append(all, part)
	}
}

func boundaryOf(contentType string) (string, error) {
	_, params, err := mime.ParseMediaType(contentType)
	if b := params["boundary"]; err == nil && b != "" {
		return b, nil
	}
	// Unquoted, with signs that would have to be in quotes.
	if i := strings.Index(strings.ToLower(contentType), "boundary="); i >= 0 {
		b, _, _ := strings.Cut(contentType[i+len("boundary="):], ";")
		if b = strings.Trim(strings.TrimSpace(b), `"`); b != "" && len(b) <= 70 {
			return b, nil
		}
	}
	return "", errors.New("the Content-Type of a multipart batch has no boundary")
}

// lateHeader reads headers that stand behind blank lines.
func lateHeader(b []byte) (h textproto.MIMEHeader, rest []byte, ok bool) {
	trimmed := bytes.TrimLeft(b, "\r\n")
	line, _, _ := bytes.Cut(trimmed, []byte("\n"))
	name, _, found := bytes.Cut(line, []byte(":"))
	if !found || bytes.ContainsAny(name, " \t/") {
		return nil, nil, false
	}
	return splitHead(trimmed)
}

// splitHead reads headers up to a blank line.
func splitHead(b []byte) (h textproto.MIMEHeader, rest []byte, ok bool) {
	src := bytes.NewReader(b)
	r := bufio.NewReader(src)
	h, err := textproto.NewReader(r).ReadMIMEHeader()
	if err != nil && err != io.EOF {
		return nil, nil, false
	}
	return h, b[len(b)-src.Len()-r.Buffered():], true
}

// Message is a request or a response as it stands in a part: its first line's
// fields, headers and body.
type Message struct {
	Method, URL string // of a request
	Status      int    // of a response
	Header      http.Header
	Body        []byte
}

// ReadRequest reads the request of a part. Its method may be in small letters, its line
// may lack the version, and blank lines may stand before it.
func ReadRequest(b []byte) (*Message, error) {
	line, m, err := readMessage(b)
	if err != nil {
		return nil, err
	}
	method, rest, ok := strings.Cut(line, " ")
	rest = strings.TrimSpace(rest)
	if i := strings.LastIndex(rest, " HTTP/"); i >= 0 {
		rest = strings.TrimSpace(rest[:i])
	}
	if !ok || rest == "" || !isToken(method) {
		return nil, fmt.Errorf("%s is no request line: METHOD URL HTTP/1.1", short(line))
	}
	m.Method, m.URL = strings.ToUpper(method), rest
	return m, nil
}

// ReadResponse reads the response of a part.
func ReadResponse(b []byte) (*Message, error) {
	line, m, err := readMessage(b)
	if err != nil {
		return nil, err
	}
	proto, rest, _ := strings.Cut(line, " ")
	code, _, _ := strings.Cut(strings.TrimSpace(rest), " ")
	status, err := strconv.Atoi(code)
	if err != nil || !strings.HasPrefix(proto, "HTTP/") || status < 100 || status > 999 {
		return nil, fmt.Errorf("%s is no status line: HTTP/1.1 204 No Content", short(line))
	}
	m.Status = status
	return m, nil
}

func isToken(s string) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && r != '-'
	}) < 0
}

// readMessage reads a message: what its first line is, is the caller's to say.
func readMessage(b []byte) (line string, m *Message, err error) {
	b = bytes.TrimLeft(b, "\r\n")
	first, rest, _ := bytes.Cut(b, []byte("\n"))
	line = strings.TrimRight(string(first), "\r ")
	m = &Message{Header: http.Header{}}
	for {
		var raw []byte
		raw, rest, _ = bytes.Cut(rest, []byte("\n"))
		text := strings.TrimRight(string(raw), "\r")
		if strings.TrimSpace(text) == "" {
			break
		}
		name, value, ok := strings.Cut(text, ":")
		if !ok || strings.ContainsAny(name, " \t") {
			return "", nil, fmt.Errorf("%s is no header line", short(text))
		}
		m.Header.Add(name, strings.TrimSpace(value))
	}
	m.Body = rest
	if n, err := strconv.Atoi(m.Header.Get("Content-Length")); err == nil && n >= 0 && n <= len(rest) {
		m.Body = rest[:n]
	}
	if len(bytes.TrimSpace(m.Body)) == 0 { // blank lines that belong to no body
		m.Body = nil
	}
	return line, m, nil
}

// AppendResponse appends a response as it stands in a part.
func AppendResponse(dst []byte, status int, h http.Header, body []byte) []byte {
	dst = append(dst, "HTTP/1.1 "...)
	dst = strconv.AppendInt(dst, int64(status), 10)
	dst = append(dst, ' ')
	dst = append(dst, http.StatusText(status)...)
	return appendRest(dst, h, body)
}

// AppendRequest appends a request as it stands in a part.
func AppendRequest(dst []byte, method, url string, h http.Header, body []byte) []byte {
	dst = append(dst, method...)
	dst = append(dst, ' ')
	dst = append(dst, url...)
	dst = append(dst, " HTTP/1.1"...)
	return appendRest(dst, h, body)
}

func appendRest(dst []byte, h http.Header, body []byte) []byte {
	dst = append(dst, "\r\n"...)
	for _, name := range sortedNames(h) {
		for _, v := range h[name] {
			dst = append(dst, name...)
			dst = append(dst, ": "...)
			dst = append(dst, v...)
			dst = append(dst, "\r\n"...)
		}
	}
	if len(body) > 0 {
		dst = append(dst, "Content-Length: "...)
		dst = strconv.AppendInt(dst, int64(len(body)), 10)
		dst = append(dst, "\r\n"...)
	}
	dst = append(dst, "\r\n"...)
	return append(dst, body...)
}

func sortedNames(h http.Header) []string {
	names := make([]string, 0, len(h))
	for n := range h {
		i := len(names)
		names = append(names, n)
		for ; i > 0 && names[i-1] > n; i-- {
			names[i] = names[i-1]
		}
		names[i] = n
	}
	return names
}
