package odata

import (
	"context"
	"mime"
	"net/http"
	"net/url"
	"strconv"

	"paletwin/internal/odata"
)

// job is what a service does behind its answer (Protocol 11.6): where it is asked for, and of which requests it is.
type job struct {
	URL   string   `json:"url"`
	Of    []string `json:"of,omitempty"`    // the ids of the steps
	Group []string `json:"group,omitempty"` // of each its group
}

// jobAt is the job that an answer to some requests names.
func (c *client) jobAt(location string, from *url.URL, reqs []request) (*job, error) {
	u, err := c.resolve(location, from)
	if err != nil {
		return nil, err
	}
	j := &job{URL: u.String()}
	for i := range reqs {
		j.Group = append(j.Group, reqs[i].group)
	}
	return j, nil
}

// await asks for a job's answer until it is there, and returns it as the answer to what was asked.
func (c *client) await(ctx context.Context, j *job, r *reply) (*reply, error) {
	u, err := c.resolve(j.URL, c.root)
	if err != nil {
		return nil, err
	}
	var w waiting
	for {
		w.tries = min(w.tries, 5) // it may take as long as it does
		w.in = 0
		if err := c.wait(ctx, &w, r, nil); err != nil {
			if ctx.Err() != nil && c.batches.drop {
				c.withdraw(ctx, u)
			}
			return nil, err
		}
		if r, err = c.get(ctx, u); err != nil {
			if e, ok := err.(*Error); ok && e.Code == NotThere {
				return nil, &Error{Name: c.name, Code: Lost, Text: "the service does not know the job any more that it named"}
			}
			return nil, err
		}
		if r.status != http.StatusAccepted {
			return unwrapped(r)
		}
	}
}

// unwrapped is the answer within that of a status monitor: its status stands in a header, or it is a message within a message.
func unwrapped(r *reply) (*reply, error) {
	if n, err := strconv.Atoi(r.header.Get("AsyncResult")); err == nil {
		return &reply{n, r.header, r.body}, nil
	}
	if m, _, _ := mime.ParseMediaType(r.header.Get("Content-Type")); m != "application/http" {
		return r, nil
	}
	m, err := odata.ReadResponse(r.body)
	if err != nil {
		return nil, &Error{Name: "", Code: Lost, Text: "what became of a job cannot be read: " + err.Error()}
	}
	h := http.Header{}
	for _, x := range m.Header {
		h.Add(x.Name, x.Value)
	}
	return &reply{m.Status, h, m.Body}, nil
}

// withdraw tells the service to drop what it is at. What of it was done by then is found out as after a lost answer.
func (c *client) withdraw(ctx context.Context, u *url.URL) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), Patience)
	defer cancel()
	_, _ = c.once(ctx, "DELETE", u, nil, nil) // it may not hear it
}
