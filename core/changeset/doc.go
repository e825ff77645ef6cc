// Package changeset is the one artefact of Pale Twin: the differences
// between two states of one record set, as a file that can be read, decided
// upon, carried out and turned round.
//
// A change set is a heading, a line a change and a seal:
//
//	{"paletwin":"change-set","version":1,"record_set":"aids","key":["aid_no"],…}
//	{"id":"7f3a91c2d4e5f607","act":"amend","key":["00417"],"fields":{"range_nm":{"from":"8.0","to":"9.0"}}}
//	{"seal":"sha256:…","amend":1,"add":0,"delete":0,"field_changes":1}
//
// The seal covers every byte before it. The order of keys in a line is
// fixed, so that id, act and key are found without decoding the rest; a
// Reader gives Lines, and a Line decodes itself only when asked. The form is
// described for others in docs/formats.md.
//
// Decisions are kept apart from the change set, in a Ledger: each is bound
// to the digest of what was decided, so that it lapses when the content is
// another.
package changeset
