package compare

import (
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/slip"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// sampleSnapshot makes the sample that the dossier keeps.
func (c *comparison) sampleSnapshot() {
	s := slip.Sample{Fields: slip.DigestOf(c.res.Fields)}
	for key, i := range c.snap.lowest.All() {
		s.Rows = append(s.Rows, slip.SampleRow{Key: key, Values: slip.DigestOf(c.oldRow(i))})
		c.sampledAt = append(c.sampledAt, i)
	}
	c.res.Sample = s
}

// oldRow are a record's values by field.
func (c *comparison) oldRow(i uint32) []string {
	cells := csv.Split(nil, c.snap.raw(i), c.snap.img.Comma)
	v := make([]string, len(c.res.Fields))
	for f := range v {
		x, _ := csv.Value(c.snap.img, cells[f])
		v[f] = x.String()
	}
	return v
}

// fitOthers finds another snapshot that the copy fits better than its own.
func (c *comparison) fitOthers(in *slip.Input) error {
	if c.o.Others == nil {
		return nil
	}
	others, err := c.o.Others()
	if err != nil {
		return err
	}
	for _, o := range others {
		own, other := slip.Fits(c.res.Sample, o.Sample, func(n int) (uint64, bool) { return c.copyDigest(in, c.sampledAt[n]) })
		if !slip.FitsOther(own, other) {
			continue
		}
		c.slips.all |= c.slips.bit(changeset.WrongFile.Name)
		f := changeset.WrongFile.Finding("where the snapshots differ, %s of the copy %s as the snapshot of %s has them, and %d as this one has: is it the copy of that one?",
			words.Count(other, "sampled record"), isAre(other), o.Name, own)
		f.Count = other
		c.find(f, c.copy.img.Name, "")
		return nil
	}
	return nil
}

// copyDigest is the digest of a record as the copy has it.
func (c *comparison) copyDigest(in *slip.Input, i uint32) (uint64, bool) {
	if c.mate[i] < mateRow {
		return 0, false
	}
	values := c.oldRow(i)
	at, _ := slices.BinarySearchFunc(in.Cells, i, func(x slip.Cell, i uint32) int { return int(int64(x.Record) - int64(i)) })
	for ; at < len(in.Cells) && in.Cells[at].Record == i; at++ {
		values[in.Cells[at].Field] = in.Cells[at].To
	}
	return slip.DigestOf(values), true
}
