package sqldb

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
)

// ticket names a transaction, so that its fate can be asked for.
type ticket struct {
	// Of PostgreSQL: the transaction's number, the server process that has it, the
	// server's own number, and its timeline, on which numbers are given once.
	Transaction string `json:"transaction,omitempty"`
	Process     string `json:"process,omitempty"`
	Since       string `json:"since,omitempty"`
	System      string `json:"system,omitempty"`
	Timeline    string `json:"timeline,omitempty"`
	// Loose says that the number may be given again, should the server die.
	Loose bool `json:"loose,omitempty"`
	// Of others: a row that the transaction adds to the table of tickets, and the
	// mark by which its connection is known.
	Token string `json:"token,omitempty"`
	Mark  string `json:"mark,omitempty"`
}

// fate is what became of a transaction.
type fate uint8

const (
	unknown    fate = iota // it cannot be told
	committed              // it is
	rolledBack             // it is not, and never will be
	running                // it may still become either
)

// tickets are how an engine tells what became of a transaction.
type tickets interface {
	// draw gives the transaction that is open its ticket; before is that of the
	// transaction before, of which everything is known. nil is none: the engine has none.
	draw(ctx context.Context, s session, d *definition, mark, before string) (*ticket, error)
	// firm waits until the ticket that was drawn last outlives the server.
	firm(ctx context.Context, s session) error
	// fate asks what became of a transaction, over another connection, and ends it
	// where it is still running. why says why it cannot be told.
	fate(ctx context.Context, s session, d *definition, t *ticket) (f fate, why string, err error)
	// table is the statement that makes the table of tickets, "" where none is needed.
	table(d *definition) string
	// settle removes tickets.
	settle(ctx context.Context, s session, d *definition, tokens []string) error
}

// ticketTable is where tickets stand that are rows.
const ticketTable = "paletwin_ticket"

// What a ticket's row says: it is the transaction's own, or stands there so that the
// transaction never comes to its end, and whoever asks again hears the same.
const (
	saysWritten = "written"
	saysNever   = "never"
)

const addToken = "INSERT INTO %s (ticket, says) VALUES (?, ?)"

// drawToken adds the row of a ticket to the transaction, and takes that of the one before
// away.
func drawToken(ctx context.Context, s session, table, mark, before string) (*ticket, error) {
	t := &ticket{Token: newMark(), Mark: mark}
	_, err := s.exec(ctx, fmt.Sprintf(addToken, table), plain(t.Token, saysWritten)...)
	if err == nil && before != "" {
		err = settleTokens(ctx, s, table, []string{before})
	}
	return t, err
}

// fateOfToken adds the row of a ticket again: where it can be added the transaction has
// not been committed, and never will be, for the row is in its way; where it is there
// already it says itself whose it is.
func fateOfToken(ctx context.Context, s session, e engine, table string, t *ticket) (fate, string, error) {
	_, err := s.exec(ctx, fmt.Sprintf(addToken, table), plain(t.Token, saysNever)...)
	f := e.failure(err)
	switch {
	case err == nil:
		return rolledBack, "", nil
	case f == nil || f.kind != refused && f.kind != again && f.kind != locked:
		return unknown, "", err
	case f.kind != refused:
		return running, "", nil
	}
	row, ok, err := one(ctx, s, "SELECT says FROM "+table+" WHERE ticket = ?", plain(t.Token)...)
	switch {
	case err != nil || !ok:
		return running, "", err
	case row[0] == saysWritten:
		return committed, "", nil
	}
	return rolledBack, "", nil
}

// settleTokens takes rows of tickets away.
func settleTokens(ctx context.Context, s session, table string, tokens []string) error {
	_, err := s.exec(ctx, "DELETE FROM "+table+" WHERE ticket IN (?"+strings.Repeat(", ?", len(tokens)-1)+")", plain(tokens...)...)
	return err
}

func (t *ticket) json() json.RawMessage {
	b, _ := json.Marshal(t) // texts are always encoded
	return b
}

// newMark is a text that nobody else draws.
func newMark() string {
	var b [12]byte
	_, _ = rand.Read(b[:]) // it never fails
	return "paletwin-" + hex.EncodeToString(b[:])
}
