package odata

import "strings"

// Header is a header of a request or a response.
type Header struct{ Name, Value string }

// Headers are those of a message, in their order. There are few: they are looked through one by one.
type Headers []Header

// Get is the value of the first header of a name, in whatever case; "" is none.
func (h Headers) Get(name string) string {
	for i := range h {
		if len(h[i].Name) == len(name) && strings.EqualFold(h[i].Name, name) {
			return h[i].Value
		}
	}
	return ""
}

// Set gives a header its one value.
func (h *Headers) Set(name, value string) {
	for i := range *h {
		if strings.EqualFold((*h)[i].Name, name) {
			(*h)[i].Value = value
			return
		}
	}
	*h = append(*h, Header{name, value})
}

// Delete takes a header away.
func (h *Headers) Delete(name string) {
	for i := range *h {
		if strings.EqualFold((*h)[i].Name, name) {
			*h = append((*h)[:i], (*h)[i+1:]...)
			return
		}
	}
}
