// Package expr evaluates expressions over the fields of records: rules,
// selections, and computed values. They are CEL, the Common Expression
// Language, with types of our own where its own would lose something:
//
//   - number is an exact decimal; 29.70 == 29.7, and fee * 1.04 is exact;
//   - date is a day, moment a day with a time and perhaps a zone;
//   - a blank field is null, whatever its type.
//
// An expression is parsed, its number literals are made numbers, and it is
// checked against the fields' types before anything runs. What it may cost is
// bounded then. A value that is needed and null makes no error but ErrNull,
// for the caller to decide what that means.
//
// docs/expressions.md lists the functions with an example each.
package expr
