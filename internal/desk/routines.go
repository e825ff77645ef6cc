package desk

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/yamltext"
	"paletwin/internal/disk"
)

// Routine is a derivation that is made again and again, kept on the desk.
type Routine struct {
	Description string           `yaml:"description"`
	RecordSet   string           `yaml:"record_set"`
	Key         fieldNames       `yaml:"key"` // where there is no layout that says it
	Params      map[string]Param `yaml:"params"`
	Where       string           `yaml:"where"`
	Set         []string         `yaml:"set"`
	Fill        []string         `yaml:"fill"`
	Clear       []string         `yaml:"clear"`
	Move        []string         `yaml:"move"`
	Delete      bool             `yaml:"delete"`
	// Sets is what the routine does in several record sets, by their names; then it does nothing else.
	Sets       map[string]*Routine `yaml:"sets"`
	LimitWords LimitWords          `yaml:"limits"`
	Limits     layout.Limits       `yaml:"-"`
}

// fieldNames is one name, or a list of them.
type fieldNames []string

// UnmarshalYAML reads one name as a list of one.
func (f *fieldNames) UnmarshalYAML(read func(any) error) error {
	var one string
	if err := read(&one); err == nil {
		*f = fieldNames{one}
		return nil
	}
	return read((*[]string)(f))
}

// LimitWords are the limits as they are written: a number of records, or a
// share of them.
type LimitWords struct {
	Amend  string `yaml:"amend"`
	Add    string `yaml:"add"`
	Delete string `yaml:"delete"`
}

// Param is a parameter of a routine.
type Param struct {
	Type    string `yaml:"type" json:"type"`       // number, date or text; "" is text
	Default string `yaml:"default" json:"default"` // "" is none
}

// ParamValue is what a parameter is: as it is written, and as an expression.
type ParamValue struct{ Text, Literal string }

// RoutineError says what is wrong with a routine.
type RoutineError struct{ File, Text string }

func (e *RoutineError) Error() string { return e.File + ": " + e.Text }

// Routine reads the routine with a name.
func (d *Desk) Routine(name string) (*Routine, error) {
	path := filepath.Join(d.Dir, "routines", stem(name)+".yaml")
	b, err := disk.ReadFile(d.FS, path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &RoutineError{d.rel(path), "there is no such routine; there are " + either(strings.Join(d.RoutineNames(), ", "), "none")}
	}
	if err != nil {
		return nil, err
	}
	r := new(Routine)
	if err := yamltext.Unmarshal(b, r, yaml.Strict()); err != nil {
		return nil, &RoutineError{d.rel(path), strings.TrimSpace(yaml.FormatError(err, false, false))}
	}
	if err := r.check(d.rel(path)); err != nil {
		return nil, err
	}
	for name, p := range r.Params {
		if !slices.Contains([]string{"", "text", "number", "date"}, p.Type) || !paramName.MatchString(name) {
			return nil, &RoutineError{d.rel(path), fmt.Sprintf("params: %s is a word, and its type is text, number or date", name)}
		}
	}
	return r, nil
}

// check reads the limits, and says what of the routine cannot be.
func (r *Routine) check(file string) (err error) {
	for _, x := range []struct {
		to   *layout.Limit
		text string
	}{{&r.Limits.Amend, r.LimitWords.Amend}, {&r.Limits.Add, r.LimitWords.Add}, {&r.Limits.Delete, r.LimitWords.Delete}} {
		if x.text == "" {
			continue
		}
		if *x.to, err = layout.ParseLimit(x.text); err != nil {
			return &RoutineError{file, "limits: " + err.Error()}
		}
	}
	if len(r.Sets) == 0 {
		return nil
	}
	if r.Where != "" || len(r.Set)+len(r.Fill)+len(r.Clear)+len(r.Move) > 0 || r.Delete || r.RecordSet != "" || len(r.Key) > 0 || r.LimitWords != (LimitWords{}) {
		return &RoutineError{file, "a routine with sets: says below each of them what is done there, and nothing beside them"}
	}
	for name, s := range r.Sets {
		switch {
		case s == nil:
			return &RoutineError{file, "sets: " + name + ": what is done there is not said"}
		case len(s.Sets) > 0 || len(s.Params) > 0 || s.RecordSet != "" || s.Description != "":
			return &RoutineError{file, "sets: " + name + ": description, params, record_set and sets are not said of one of several sets"}
		}
		if err := s.check(file); err != nil {
			return err
		}
	}
	return nil
}

// SetNames lists the record sets of a routine of several.
func (r *Routine) SetNames() []string { return slices.Sorted(maps.Keys(r.Sets)) }

func either(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

// RoutineNames lists the routines there are.
func (d *Desk) RoutineNames() []string { return d.yamlNames("routines") }

var (
	paramName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	paramUse  = regexp.MustCompile(`\bparam\.([a-z][a-z0-9_]*)`)
)

// ParamWords names the parameters with their types and defaults.
func (r *Routine) ParamWords() string {
	var words []string
	for name, p := range r.Params {
		w := name
		if p.Default != "" {
			w += "=" + p.Default
		}
		words = append(words, w)
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
}

// Values reads parameters as they are given, name=value, and takes the
// defaults of the others.
func (r *Routine) Values(given []string) (map[string]ParamValue, error) {
	text := map[string]string{}
	for name, p := range r.Params {
		if p.Default != "" {
			text[name] = p.Default
		}
	}
	for _, g := range given {
		name, v, ok := strings.Cut(g, "=")
		if _, known := r.Params[name]; !ok || !known {
			return nil, fmt.Errorf("a parameter is given as --with NAME=VALUE, and the parameters are %s; not %q", either(r.ParamWords(), "none"), g)
		}
		text[name] = v
	}
	values := map[string]ParamValue{}
	for name, p := range r.Params {
		v, there := text[name]
		if !there {
			return nil, fmt.Errorf("the parameter %s has no default: --with %s=…", name, name)
		}
		lit := strconv.Quote(v)
		switch p.Type {
		case "number":
			if _, ok := expr.ParseNumber(v); !ok {
				return nil, fmt.Errorf("the parameter %s is a number, not %q", name, v)
			}
			lit = "(" + v + ")"
		case "date":
			if _, ok := expr.ParseDate(v); !ok {
				return nil, fmt.Errorf("the parameter %s is a date such as 2026-03-11, not %q", name, v)
			}
			lit = `date("` + v + `")`
		}
		values[name] = ParamValue{v, lit}
	}
	return values, nil
}

// FillIn writes parameters' values where an expression names them, as
// param.NAME. A name that is none stays, and does not compile.
func FillIn(text string, values map[string]ParamValue) string {
	return paramUse.ReplaceAllStringFunc(text, func(use string) string {
		if v, ok := values[use[len("param."):]]; ok {
			return v.Literal
		}
		return use
	})
}
