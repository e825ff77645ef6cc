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

// Part is a part of a multipart batch: a request or a response.
type Part struct {
	ID     string // its Content-ID
	Body   []byte
	Group  int // the number, from 1, of the group that it is in; 0 is none
	Header textproto.MIMEHeader
}

// ReadParts gives each the parts of a multipart body, and those of the groups in
// it. Parts may lack headers, and have blank lines before them. A group without parts
// leaves no trace.
func ReadParts(body []byte, contentType string, each func(Part)) error {
	groups := 0
	return readParts(body, contentType, func(p Part, inner string) error {
		if inner == "" {
			each(p)
			return nil
		}
		groups++
		return readParts(p.Body, inner, func(p Part, inner string) error {
			if inner != "" {
				return errors.New("a group within a group of a batch is not allowed")
			}
			p.Group = groups
			each(p)
			return nil
		})
	})
}

// readParts gives each a body's parts; inner is the Content-Type of a group, "" of a message.
func readParts(body []byte, contentType string, each func(p Part, inner string) error) error {
	boundary, err := boundaryOf(contentType)
	if err != nil {
		return err
	}
	n := 0
	r := multipart.NewReader(bytes.NewReader(body), boundary)
	for {
		p, err := r.NextRawPart()
		if err == io.EOF {
			return nil
		}
		n++
		if err != nil {
			return fmt.Errorf("part %d of the batch cannot be read: the boundary %q is not closed, or its headers are none", n, boundary)
		}
		b, err := io.ReadAll(p)
		if err != nil {
			return fmt.Errorf("part %d of the batch is cut off: no boundary %q ends it", n, boundary)
		}
		part := Part{Header: p.Header, Body: b}
		if len(p.Header) == 0 { // a blank line stood before them, or there are none
			if h, rest, ok := lateHeader(b); ok {
				part.Header, part.Body = h, rest
			}
		}
		part.ID = strings.Trim(strings.TrimSpace(part.Header.Get("Content-ID")), "<>")
		inner := part.Header.Get("Content-Type")
		if !strings.HasPrefix(strings.ToLower(strings.TrimSpace(inner)), "multipart/") {
			inner = ""
		}
		if err := each(part, inner); err != nil {
			return err
		}
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
	Header      Headers
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
	m = &Message{}
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
		m.Header = append(m.Header, Header{name, strings.TrimSpace(value)})
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
func AppendResponse(dst []byte, status int, h Headers, body []byte) []byte {
	dst = append(dst, "HTTP/1.1 "...)
	dst = strconv.AppendInt(dst, int64(status), 10)
	dst = append(dst, ' ')
	dst = append(dst, http.StatusText(status)...)
	return appendRest(dst, h, body)
}

// AppendRequest appends a request as it stands in a part.
func AppendRequest(dst []byte, method, url string, h Headers, body []byte) []byte {
	dst = append(dst, method...)
	dst = append(dst, ' ')
	dst = append(dst, url...)
	dst = append(dst, " HTTP/1.1"...)
	return appendRest(dst, h, body)
}

func appendRest(dst []byte, h Headers, body []byte) []byte {
	dst = append(dst, "\r\n"...)
	for _, x := range h {
		dst = append(dst, x.Name...)
		dst = append(dst, ": "...)
		dst = append(dst, x.Value...)
		dst = append(dst, "\r\n"...)
	}
	if len(body) > 0 {
		dst = append(dst, "Content-Length: "...)
		dst = strconv.AppendInt(dst, int64(len(body)), 10)
		dst = append(dst, "\r\n"...)
	}
	dst = append(dst, "\r\n"...)
	return append(dst, body...)
}
