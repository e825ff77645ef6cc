package compare

import (
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/slip"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// sampleSnapshot makes the sample that the dossier keeps.
func (jd *judgement) sampleSnapshot() {
	s := slip.Sample{Fields: slip.DigestOf(jd.res.Fields)}
	for key, i := range jd.snap.lowest.All() {
		s.Rows = append(s.Rows, slip.SampleRow{Key: key, Values: slip.DigestOf(jd.oldRow(i))})
		jd.sampledAt = append(jd.sampledAt, i)
	}
	jd.res.Sample = s
}

// oldRow are a record's values by field.
func (t *tables) oldRow(i uint32) []string {
	cells := csv.Split(make([][]byte, 0, len(t.snap.img.Heading)), t.snap.raw(i), t.snap.img.Comma)
	v := make([]string, len(t.res.Fields))
	for f := range v {
		x, _ := csv.Value(t.snap.img, cells[f])
		v[f] = x.String()
	}
	return v
}

// fitOthers finds another snapshot that the copy fits better than its own.
func (jd *judgement) fitOthers(in *slip.Input) error {
	if jd.o.Others == nil {
		return nil
	}
	others, err := jd.o.Others()
	if err != nil {
		return err
	}
	for _, o := range others {
		own, other := slip.Fits(jd.res.Sample, o.Sample, func(n int) (uint64, bool) { return jd.copyDigest(in, jd.sampledAt[n]) })
		if !slip.FitsOther(own, other) {
			continue
		}
		jd.slips.All(changeset.WrongFile)
		f := changeset.WrongFile.Finding("where the snapshots differ, %s of the copy %s as the snapshot of %s has them, and %d as this one has: is it the copy of that one?",
			words.Count(other, "sampled record"), isAre(other), o.Name, own)
		f.Count = other
		jd.find(f, jd.copy.img.Name, "")
		return nil
	}
	return nil
}

// copyDigest is the digest of a record as the copy has it.
func (jd *judgement) copyDigest(in *slip.Input, i uint32) (uint64, bool) {
	if jd.mate[i] < mateRow {
		return 0, false
	}
	values := jd.oldRow(i)
	at, _ := slices.BinarySearchFunc(in.Cells, i, func(x slip.Cell, i uint32) int { return int(int64(x.Record) - int64(i)) })
	for ; at < len(in.Cells) && in.Cells[at].Record == i; at++ {
		values[in.Cells[at].Field] = in.Cells[at].To
	}
	return slip.DigestOf(values), true
}
