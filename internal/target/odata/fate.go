package odata

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/odata"
	"paletwin/internal/target"
)

// This file is the rule of what became of a request, by what was answered, or by the record where no answer came. It is the same for a
// request of this process and for one of a process that died.
//
// A PATCH or DELETE says with If-Match which state of the record it means. Where its answer is lost, it is sent again with the same: if it
// is done now, it was not done before, and never will be once more. If it is refused as stale, the record tells: as it was in what was to
// be written, it was not done; exactly as the request leaves it, it was. Anything else is unknown, and so is a record that is
// gone. A service that knows repeated requests again (OASIS Repeatable Requests) answers as it did the first time, and leaves no doubt.
//
// That the record is exactly as the request leaves it says that it was done, unless somebody else wrote just the same in that moment: in a
// service without repeatable requests these two cannot be told apart, and the record is the same.

const (
	maxStale = 6 // times that a record is read again since somebody else edits it
	maxLost  = 6 // times that a request is sent of which the answer is lost
	enough   = 4 // times that a service is asked what it answered the first time; then the record has to tell
)

// told takes in what was answered to a unit's requests. An error ends the run: what was not done can be done later.
func (s *Set) told(u *unit, answers []*answer) error {
	why, all := -1, true
	for i, a := range answers {
		all = all && a != nil && a.status < 300
		if why < 0 && a != nil && a.status >= 300 && a.status != http.StatusFailedDependency { // which another one is why of
			why = i
		}
	}
	switch {
	case all:
		for i, it := range u.items {
			s.wasDone(it, answers[i])
		}
		if u.look = s.toReadBack(u); u.look == no {
			s.finish(u)
		}
		return nil
	case why < 0: // it was not come to, or its answer was left out
		for i, it := range u.items {
			it.doubt = it.doubt || answers[i] == nil
		}
		return s.soon(u.items[0], "the service leaves requests of batches out")
	}
	return s.answered(u, u.items[why], answers[why])
}

// soon lets an item be sent once more. What comes to no end is an error.
func (s *Set) soon(it *item, why string) error {
	if it.tries++; it.tries > maxTries {
		return &Error{Name: s.Name(), Code: Busy, Text: why}
	}
	return nil
}

// answered takes in an answer that says no.
func (s *Set) answered(u *unit, it *item, a *answer) error {
	c := cause{a.status, s.c.wordsOf(a)}
	failed := a.status >= 500 && a.status != http.StatusNotImplemented
	switch {
	case a.status == http.StatusUnauthorized:
		return &Error{Name: s.Name(), Code: Denied, Text: "the service does not let us in any more (401)" + colon(c.text)}
	case busy(a.status):
		s.busy = true
		s.held = max(s.held, later(a.header.Get("Retry-After"), 100*time.Millisecond<<min(it.tries, 6)))
		return s.soon(it, fmt.Sprintf("the service is busy (%d)", a.status))
	case failed && it.step.Act == changeset.Add && !s.ownKey(it) && it.mark == "":
		u.is(it, target.Unknown, "%s", s.lostWords(it, &c))
		return nil
	case c.stale(), failed, u.items[0].doubt:
		for _, x := range u.items {
			x.doubt, x.cause = x.doubt || failed, cause{}
		}
		it.cause, u.look = c, inquire
		return nil
	}
	u.is(it, target.Refused, "%s", s.refusal(&c))
	return nil
}

// refusal says in words why the service would not take a record.
func (s *Set) refusal(c *cause) string {
	text := fmt.Sprintf("the service says %d", c.status)
	if name := http.StatusText(c.status); c.text == "" && name != "" {
		text += " " + name
	}
	if c.status == http.StatusLocked {
		text = "somebody else is working on it (423)"
	}
	return text + colon(c.text)
}

func colon(text string) string {
	if text == "" {
		return ""
	}
	return ": " + text
}

// wasLost takes in that the answer to a unit's requests was lost, or that it says no more than that something failed.
func (s *Set) wasLost(u *unit, c cause) error {
	for _, it := range u.items {
		it.doubt, it.cause = true, c
	}
	for _, it := range u.items {
		switch {
		case c.status == 0 && s.fenced(it) && it.tries < 2: // it may be the answer that never comes through
		case it.etag != "", s.ownKey(it):
			u.look = inquire
		case it.mark != "": // a failure: it is asked once more
		default:
			u.is(it, target.Unknown, "%s", s.lostWords(it, &c))
			return nil
		}
	}
	if it := u.items[0]; it.tries < maxLost {
		it.tries++
		return nil
	}
	return &Error{Name: s.Name(), Code: Lost, Text: "the connection is cut again and again before the answer is there"}
}

func (s *Set) lostWords(it *item, c *cause) string {
	text := "the answer was lost"
	if c.status != 0 {
		text = s.refusal(c)
	}
	if it.step.Act == changeset.Add {
		return text + ", and the service gives the key: look whether it has the record, and say so by handoff collect"
	}
	return text + ", and the service gives its records no ETag by which it could be told whether it was done"
}

// looked takes in how a unit's records are now.
func (s *Set) looked(u *unit, now []*seen) error {
	back := u.look == readBack
	u.look = no
	if back {
		for i, it := range u.items {
			s.isNow(it, now[i])
		}
		s.finish(u)
		return nil
	}
	fates, whys := make([]target.Fate, len(u.items)), make([]string, len(u.items))
	for i, it := range u.items {
		fates[i], whys[i] = s.decide(it, now[i])
	}
	if slices.Contains(fates, target.Done) { // and so were all
		for i, it := range u.items {
			s.isNow(it, now[i])
			it.res.Reason = "confirmed: the answer was lost, and the record is as this run leaves it"
		}
		s.finish(u)
		return nil
	}
	for _, f := range []target.Fate{target.Moved, target.Refused, target.Unknown} {
		if i := slices.Index(fates, f); i >= 0 {
			u.is(u.items[i], f, "%s", whys[i])
			return nil
		}
	}
	anew := slices.Contains(fates, target.Waiting) // then none was done, nor ever will be as it was sent
	for i, it := range u.items {
		if it.cause = (cause{}); !anew {
			continue
		}
		if it.doubt = false; it.now == nil || it.now.etag != now[i].etag {
			it.mark = "" // another request than before
		}
		it.now = now[i]
	}
	if it := u.items[0]; it.tries < maxStale+maxLost {
		it.tries++
	} else {
		u.is(it, target.Refused, "others edit the record, or the service fails, whenever it is to be written")
	}
	return nil
}

// decide says what became of an item, by its record as it is now: Waiting is that it is to be sent as the record is now, Asked that it is
// to be sent as before. In a service that knows requests again, a refusal that says something of the record is one of a request
// that was never done.
func (s *Set) decide(it *item, now *seen) (target.Fate, string) {
	c := &it.cause
	doubt := it.doubt && !(it.mark != "" && c.stale())
	knows := it.doubt && it.mark != "" && !c.stale() && it.tries < enough
	lost := c.status == 0
	state := s.state(now)
	unlike := it.step.Unlike(state, s.o.Of)
	if it.step.Act == changeset.Add {
		switch {
		case !now.there && lost, knows && (now.there || lost):
			return target.Asked, ""
		case !now.there:
			return target.Refused, s.refusal(c)
		case doubt && s.likeAdded(it, state.Record):
			return target.Done, ""
		case doubt:
			return target.Unknown, "the answer was lost, and the record is there, but is not as it was to be: whether it was added by this run cannot be told"
		}
		return target.Moved, unlike
	}
	untouched := now.there && it.etag != "" && now.etag == it.etag || it.etag == "" && unlike == "" && c.status >= 500
	switch {
	case untouched && lost:
		return target.Asked, ""
	case untouched:
		return target.Refused, s.refusal(c)
	case knows:
		return target.Asked, ""
	case doubt && !now.there:
		return target.Unknown, "the answer was lost, and the record is gone: whether it was written before, or who deleted it, cannot be told"
	case doubt && it.etag != "" && s.asLeft(it, state.Record):
		return target.Done, ""
	case unlike == "" && (lost || c.stale()):
		return target.Waiting, ""
	case unlike == "":
		return target.Refused, s.refusal(c)
	case doubt:
		return target.Unknown, "the answer was lost, and the record was edited by somebody else, before or after: " + unlike
	}
	return target.Moved, unlike
}

// likeAdded reports whether a record is what an item adds.
func (s *Set) likeAdded(it *item, now record.Record) bool {
	return len(s.o.Of.Unlikes(it.step.Record, now, append(s.computed(), s.o.Of.System()...))) == 0
}

// asLeft reports whether a record is exactly as an item's request leaves it.
func (s *Set) asLeft(it *item, now record.Record) bool {
	if it.step.Act != changeset.Amend || it.rest == "" || it.rest != s.restOf(it.step, now) {
		return false
	}
	get := now.Finder()
	for _, f := range it.step.Fields {
		if v, _ := get(f.Field); !s.o.Of.Equal(f.Field, v, f.To) {
			return false
		}
	}
	return true
}

// wasDone takes in the answer to a request that was done.
func (s *Set) wasDone(it *item, a *answer) {
	if it.step.Act == changeset.Delete || len(a.body) == 0 || !strings.Contains(a.header.Get("Content-Type"), "json") {
		it.key(s, a.header)
		return
	}
	values, has, err := s.entity(a.body)
	if err != nil {
		it.key(s, a.header)
		return
	}
	var after record.Record
	for i, v := range values {
		if has[i] {
			after = append(after, record.Field{Name: s.fields[i], Value: v})
		}
	}
	get := after.Finder()
	for _, f := range it.step.Fields {
		if _, told := get(f.Field); !told {
			return // it is read back
		}
	}
	if it.step.Act == changeset.Add {
		var parts []string
		for _, k := range s.key {
			if !has[k] {
				it.key(s, a.header)
				return
			}
			parts = append(parts, values[k].String())
		}
		it.gets(record.NewKey(parts...), s)
	}
	it.res.After = after
}

// key takes the key of a record that was added from the address that the answer gives it.
func (it *item) key(s *Set, h odata.Headers) {
	if it.step.Act != changeset.Add {
		return
	}
	at := cmp.Or(h.Get("Location"), h.Get("OData-EntityId"))
	open := strings.LastIndexByte(at, '(')
	if open < 0 || !strings.HasSuffix(at, ")") {
		return
	}
	text, err := url.PathUnescape(at[open+1 : len(at)-1])
	if err != nil {
		return
	}
	parts, err := odata.ParseKey(text)
	if err != nil || len(parts) != len(s.key) {
		return
	}
	var key []string
	for i, k := range s.key {
		literal := parts[i].Text
		for _, p := range parts {
			if p.Name == s.typ.properties[k].Name {
				literal = p.Text
			}
		}
		if v, err := odata.ParseLiteral(literal); err == nil {
			literal = v.Text
		}
		key = append(key, literal)
	}
	it.gets(record.NewKey(key...), s)
}

// gets is the key that the service gave a record.
func (it *item) gets(k record.Key, s *Set) {
	if it.at = k; s.o.Of.Key(k) != s.o.Of.Key(it.step.Key) {
		it.res.Key = k
	}
}

// toReadBack reports whether a unit has records of which the service did not say what they are now.
func (s *Set) toReadBack(u *unit) looks {
	for _, it := range u.items {
		if it.step.Act != changeset.Delete && it.res.After == nil {
			return readBack
		}
	}
	return no
}

// isNow takes in a record as it was read after the request.
func (s *Set) isNow(it *item, now *seen) {
	if now != nil && now.there && it.step.Act != changeset.Delete {
		it.res.After = s.state(now).Record
	}
}

// finish ends a unit that was done. What the service said that it wrote, and did not, is said.
func (s *Set) finish(u *unit) {
	for _, it := range u.items {
		if it.now != nil && it.now.there {
			it.res.Before = s.state(it.now).Record
		}
		delete(s.seen, s.o.Of.Key(it.step.Key))
		if it.step.Act == changeset.Amend {
			s.ignored(u, it)
		}
	}
	u.ends()
}

// ignored finds fields that are as before, although the service said that they were written.
func (s *Set) ignored(u *unit, it *item) {
	get := it.res.After.Finder()
	for _, f := range it.step.Fields {
		if v, there := get(f.Field); there && s.o.Of.Equal(f.Field, v, f.From) && !s.o.Of.Equal(f.Field, v, f.To) {
			it.res.Left = append(it.res.Left, f.Field)
		}
	}
	why := "the service says that it was done, and leaves " + strings.Join(it.res.Left, ", ") + " as it was"
	switch n := len(it.res.Left); {
	case n == 0:
		return
	case n == len(it.step.Fields) && !u.linked():
		*it.res = target.Result{Fate: target.Refused, Reason: why}
		return
	}
	it.res.Reason = "in part: " + why
}
