package cli

import (
	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/internal/desk"
	"paletwin/internal/update"
)

// comparedJSON is what compare and derive print for machines.
type comparedJSON struct {
	Dossier   *string                `json:"dossier"`
	Path      *string                `json:"path"`
	RecordSet string                 `json:"record_set"`
	Records   compare.Records        `json:"records"`
	Changes   changeset.Tally        `json:"changes"`
	Fields    []changeset.FieldCount `json:"fields"`
	Totals    []compare.Total        `json:"totals"`
	Wear      compare.Wear           `json:"wear"`
	Findings  []changeset.Group      `json:"findings"`
	Copies    []compare.CopyFound    `json:"copies,omitempty"` // where there are several
	Since     *update.Since          `json:"since,omitempty"`
}

func compareJSON(t *desk.Dossier, res *compare.Result, since *update.Since) *comparedJSON {
	j := &comparedJSON{Since: since, RecordSet: res.RecordSet, Records: res.Records, Changes: res.Changes, Fields: orEmpty(res.Changes.ByField),
		Totals: orEmpty(res.Totals), Wear: res.Wear, Findings: orEmpty(changeset.Groups(res.Findings)), Copies: res.Copies}
	if t != nil {
		path := t.Rel(t.Dir)
		j.Dossier, j.Path = &t.Meta.Number, &path
	}
	return j
}

// orEmpty makes a nil list an empty one, so that JSON has [] and not null.
func orEmpty[T any](s []T) []T {
	if s == nil {
		return []T{}
	}
	return s
}
