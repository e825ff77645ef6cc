package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/cost"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"

	"paletwin/core/record"
)

// Type is the type of a field, or of what an expression gives.
type Type int

const (
	Text Type = iota
	Decimal
	Day
	Instant
	Boolean
)

var typeWords = [...]string{Text: "text", Decimal: "a number", Day: "a date", Instant: "a moment", Boolean: "true or false"}

func (t Type) String() string { return typeWords[t] }

// cel returns the type in expressions: one that may be null.
func (t Type) cel() *cel.Type {
	switch t {
	case Decimal:
		return numberType
	case Day:
		return dateType
	case Instant:
		return momentType
	case Boolean:
		return types.NewNullableType(types.BoolType)
	}
	return types.NewNullableType(types.StringType)
}

// Field is a field that expressions can name.
type Field struct {
	Name string
	Type Type
	// Code, of a field whose codes have names, makes the code of a name that an expression compares the field with; it
	// reports false for what is none. nil is a field without.
	Code func(name string) (code string, ok bool, err error)
}

// Value is a value in an expression: *Number, *Date, *Moment, text, true,
// false, or null.
type Value = ref.Val

// Null is the null value.
var Null Value = types.NullValue

// TextValue returns a text; Bool a truth value.
func TextValue(s string) Value { return types.String(s) }
func Bool(b bool) Value        { return types.Bool(b) }

// Invalid returns the value of a field whose content is none of its type.
func Invalid(format string, args ...any) Value { return types.NewErr(format, args...) }

// Getter gives the value of a field by its number.
type Getter func(field int) Value

// Input is what an expression is evaluated on. A nil Getter is a record that
// is not there: all its fields are null. One goroutine at a time evaluates on it;
// it may be filled anew for the next record.
type Input struct {
	Old, New Getter
	Key      record.Key // needed where a Program is Keyed
	Act      string
	Row      int

	env *Env // of the expression that is evaluated
}

// Texts are fields that are all texts: those of a table of which nothing more is known.
func Texts(names []string) []Field {
	fields := make([]Field, len(names))
	for i, n := range names {
		fields[i] = Field{Name: n, Type: Text}
	}
	return fields
}

// Lists answers lookup and translate; it may be nil.
type Lists interface {
	// Lookup returns what the list has in a column on the row whose first
	// column, or code, is the value. found is false where it has no such row.
	Lookup(list, value, column string) (text string, found bool, err error)
	// Translate returns what the list makes of a value.
	Translate(value, list string) (text string, found bool, err error)
}

// Env is the fields and functions that expressions can use.
type Env struct {
	fields []Field
	at     map[string]int // a field's number by its name
	base   *cel.Env
}

// NewEnv returns the environment of expressions over the given fields.
func NewEnv(fields []Field, lists Lists) (*Env, error) {
	p, err := types.NewRegistry()
	if err != nil {
		return nil, err
	}
	e := &Env{fields: fields, at: map[string]int{}}
	for i, f := range fields {
		e.at[f.Name] = i
	}
	prov := &provider{Registry: p, env: e}
	options := []cel.EnvOption{cel.StdLib(cel.StdLibSubset(subset())), cel.CustomTypeProvider(prov), cel.CustomTypeAdapter(prov), cel.EnableIdentifierEscapeSyntax(),
		cel.Variable("old", recordType), cel.Variable("new", recordType), cel.Variable("key", types.StringType), cel.Variable("act", types.StringType), cel.Variable("row", numberType)}
	for _, f := range fields {
		if identifier.MatchString(f.Name) && !slices.Contains(reserved, f.Name) {
			options = append(options, cel.Variable(f.Name, f.Type.cel()))
		}
	}
	options = append(options, functions(lists)...)
	e.base, err = cel.NewCustomEnv(options...)
	return e, err
}

var identifier = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// reserved are words of the language, and our own names.
var reserved = []string{"old", "new", "key", "act", "row", "true", "false", "null", "in", "as", "break", "const", "continue", "else", "for", "function", "if",
	"import", "let", "loop", "package", "namespace", "return", "var", "void", "while"}

// Error is an expression that cannot be used: where, what and a hint.
type Error struct {
	Source       string
	Line, Column int // from 1
	Text, Hint   string
}

func (e *Error) Error() string {
	s := fmt.Sprintf("column %d: %s", e.Column, e.Text)
	if e.Line > 1 {
		s = fmt.Sprintf("line %d, %s", e.Line, s)
	}
	if e.Hint != "" {
		s += " (" + e.Hint + ")"
	}
	return s
}

// ErrNull says that a value was needed and is null.
var ErrNull = errors.New("a value that is needed is empty")

// maxCost is what an expression may cost in CEL's own units, of which a plain
// operation is one. Texts are taken to be as long as a sheet's cell holds.
const maxCost = 50_000_000

// Program is an expression that is ready to run. It can be used by several
// goroutines.
type Program struct {
	Source string
	Type   Type
	p      cel.Program
	old    []int // the fields that it names
	new    []int
	keyed  bool
	env    *Env
}

// Compile checks an expression. Errors are *Error.
func (e *Env) Compile(source string) (*Program, error) {
	parsed, iss := e.base.Parse(source)
	if iss.Err() != nil {
		return nil, e.issue(source, iss)
	}
	constants := e.literals(source, parsed)
	if err := e.codes(source, parsed); err != nil {
		return nil, err
	}
	env, err := e.base.Extend(constants...)
	if err != nil {
		return nil, err
	}
	checked, iss := env.Check(parsed)
	if iss.Err() != nil {
		return nil, e.issue(source, iss)
	}
	p := &Program{Source: source, env: e}
	var ok bool
	if p.Type, ok = resultType(checked.OutputType()); !ok {
		return nil, &Error{Source: source, Line: 1, Column: 1, Text: fmt.Sprintf("it gives a %s, and not text, a number, a date or true or false", checked.OutputType())}
	}
	est, err := env.EstimateCost(checked, estimator{})
	if err != nil {
		return nil, err
	}
	if est.Max > maxCost {
		return nil, &Error{Source: source, Line: 1, Column: 1, Text: "it could take too long on a single record", Hint: "leave out a loop inside a loop"}
	}
	e.named(checked, p)
	p.p, err = env.Program(checked, cel.EvalOptions(cel.OptOptimize))
	return p, err
}

// CompileBool is Compile for an expression that says yes or no.
func (e *Env) CompileBool(source string) (*Program, error) {
	p, err := e.Compile(source)
	if err == nil && p.Type != Boolean {
		return nil, &Error{Source: source, Line: 1, Column: 1, Text: fmt.Sprintf("it gives %s, and a condition gives true or false", p.Type), Hint: "compare it with something: == < >="}
	}
	return p, err
}

func resultType(t *types.Type) (Type, bool) {
	for _, c := range []struct {
		t  Type
		is *types.Type
	}{{Text, types.StringType}, {Boolean, types.BoolType}, {Decimal, numberType}, {Day, dateType}, {Instant, momentType}} {
		if t.IsExactType(c.t.cel()) || t.IsExactType(c.is) {
			return c.t, true
		}
	}
	return Text, t.Kind() == types.NullTypeKind
}

// literals makes constants of the number literals in a parsed expression, and
// numbers of what size gives.
func (e *Env) literals(source string, parsed *cel.Ast) []cel.EnvOption {
	var constants []cel.EnvOption
	native := parsed.NativeRep()
	f := ast.NewExprFactory()
	runes := []rune(source)
	var next int64
	ast.PostOrderVisit(native.Expr(), ast.NewExprVisitor(func(x ast.Expr) { next = max(next, x.ID()) }))
	ast.PostOrderVisit(native.Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		switch {
		case x.Kind() == ast.LiteralKind:
			n, ok := literal(x.AsLiteral(), runes, native.SourceInfo(), x.ID())
			if !ok {
				return
			}
			name := fmt.Sprintf("@%d", len(constants))
			constants = append(constants, cel.Constant(name, numberType, n))
			x.SetKindCase(f.NewIdent(x.ID(), name))
		case x.Kind() == ast.CallKind && x.AsCall().FunctionName() == "size":
			call := x.AsCall()
			next++
			inner := f.NewCall(next, "size", call.Args()...)
			if call.IsMemberFunction() {
				inner = f.NewMemberCall(next, "size", call.Target(), call.Args()...)
			}
			x.SetKindCase(f.NewCall(x.ID(), "@number", inner))
		}
	}))
	return constants
}

// codes makes codes of the names that a parsed expression compares fields with: of a field whose codes have names,
// depot == "Old Pier" is depot == "D07". A name that is that of several is an *Error.
func (e *Env) codes(source string, parsed *cel.Ast) (wrong error) {
	f := ast.NewExprFactory()
	native := parsed.NativeRep()
	write := func(field *Field, x ast.Expr) {
		name, is := x.AsLiteral().Value().(string)
		if !is {
			return
		}
		code, ok, err := field.Code(name)
		if err != nil && wrong == nil {
			at := native.SourceInfo().GetStartLocation(x.ID())
			wrong = &Error{Source: source, Line: at.Line(), Column: at.Column() + 1, Text: err.Error()}
		}
		if ok {
			x.SetKindCase(f.NewLiteral(x.ID(), types.String(code)))
		}
	}
	ast.PostOrderVisit(native.Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		if x.Kind() != ast.CallKind || len(x.AsCall().Args()) != 2 {
			return
		}
		left, right := x.AsCall().Args()[0], x.AsCall().Args()[1]
		switch x.AsCall().FunctionName() {
		case "_==_", "_!=_":
			if right.Kind() != ast.LiteralKind {
				left, right = right, left
			}
			if field := e.coded(left); field != nil && right.Kind() == ast.LiteralKind {
				write(field, right)
			}
		case "@in":
			if field := e.coded(left); field != nil && right.Kind() == ast.ListKind {
				for _, x := range right.AsList().Elements() {
					if x.Kind() == ast.LiteralKind {
						write(field, x)
					}
				}
			}
		}
	}))
	return wrong
}

// coded is the field with names for its codes that an expression is; nil is none.
func (e *Env) coded(x ast.Expr) *Field {
	name := ""
	switch x.Kind() {
	case ast.IdentKind:
		name = x.AsIdent()
	case ast.SelectKind:
		if s := x.AsSelect(); s.Operand().Kind() == ast.IdentKind && (s.Operand().AsIdent() == "old" || s.Operand().AsIdent() == "new") {
			name = s.FieldName()
		}
	}
	i := slices.IndexFunc(e.fields, func(f Field) bool { return f.Name == name && f.Code != nil })
	if i < 0 {
		return nil
	}
	return &e.fields[i]
}

var literalForm = regexp.MustCompile(`^[0-9]*\.?[0-9]+`)

// literal returns a number literal as it is written, digit by digit.
func literal(v ref.Val, source []rune, info *ast.SourceInfo, id int64) (*Number, bool) {
	if v.Type() != types.IntType && v.Type() != types.DoubleType {
		return nil, false
	}
	if r, ok := info.GetOffsetRange(id); ok && int(r.Start) < len(source) {
		text := literalForm.FindString(strings.TrimPrefix(string(source[r.Start:]), "-"))
		if source[r.Start] == '-' {
			text = "-" + text
		}
		if n, ok := ParseNumber(text); ok {
			return n, true
		}
	}
	return ParseNumber(fmt.Sprint(v.Value()))
}

// named notes what a program's expression names.
func (e *Env) named(checked *cel.Ast, p *Program) {
	ast.PostOrderVisit(checked.NativeRep().Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		switch x.Kind() {
		case ast.SelectKind:
			s := x.AsSelect()
			i, ok := e.at[s.FieldName()]
			if !ok || s.Operand().Kind() != ast.IdentKind {
				return
			}
			switch s.Operand().AsIdent() {
			case "old":
				p.old = append(p.old, i)
			case "new":
				p.new = append(p.new, i)
			}
		case ast.IdentKind:
			name := x.AsIdent()
			p.keyed = p.keyed || name == "key"
			if i, ok := e.at[name]; ok && !slices.Contains(reserved, name) {
				p.new = append(p.new, i)
			}
		}
	}))
}

// Old and New list the fields of the state before and of that after which the
// expression names, by their numbers.
func (p *Program) Old() []int { return p.old }
func (p *Program) New() []int { return p.new }

// Keyed reports whether the expression names the record's key.
func (p *Program) Keyed() bool { return p.keyed }

// Eval evaluates the expression. The error is ErrNull where an empty value
// was in the way.
func (p *Program) Eval(in *Input) (Value, error) {
	in.env = p.env
	v, _, err := p.p.Eval((*activation)(in))
	if err == nil {
		return v, nil
	}
	for _, i := range p.old {
		if get(in.Old, i) == Null {
			return Null, ErrNull
		}
	}
	for _, i := range p.new {
		if get(in.New, i) == Null {
			return Null, ErrNull
		}
	}
	return nil, errors.New(strings.TrimPrefix(err.Error(), "no such overload: "))
}

// Holds evaluates a condition. Where a value that it needs is empty, it gives
// ErrNull.
func (p *Program) Holds(in *Input) (bool, error) {
	v, err := p.Eval(in)
	if err != nil {
		return false, err
	}
	b, ok := v.(types.Bool)
	if !ok {
		return false, ErrNull
	}
	return bool(b), nil
}

func get(g Getter, i int) Value {
	if g == nil {
		return Null
	}
	return g(i)
}

// activation resolves the names that are no constants.
type activation Input

func (a *activation) Parent() interpreter.Activation { return nil }

func (a *activation) ResolveName(name string) (any, bool) {
	switch name {
	case "old":
		return &state{a.Old}, true
	case "new":
		return &state{a.New}, true
	case "key":
		return types.String(a.Key.String()), true
	case "act":
		return types.String(a.Act), true
	case "row":
		n := new(Number)
		n.d.SetInt64(int64(a.Row))
		return n, true
	}
	if i, ok := a.env.at[name]; ok {
		return get(a.New, i), true
	}
	return nil, false
}

// estimator bounds texts for the estimate of an expression's cost.
type estimator struct{}

func (estimator) EstimateSize(cost.AstNode) *cost.SizeEstimate {
	return &cost.SizeEstimate{Min: 0, Max: 32_767}
}

func (estimator) EstimateCallCost(function, overloadID string, target *cost.AstNode, args []cost.AstNode) *cost.CallEstimate {
	return nil
}

// subset is what of CEL's own library is there. Its operators on integers and
// binary numbers meet none: literals are made numbers, and nothing gives others.
func subset() *envSubset {
	return newSubset(operators.Conditional, operators.LogicalAnd, operators.LogicalOr, operators.LogicalNot, operators.Equals, operators.NotEquals,
		operators.In, operators.Index, operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals, operators.Add,
		operators.Subtract, operators.Multiply, operators.Divide, operators.Negate,
		operators.NotStrictlyFalse, "size", "contains", "startsWith", "endsWith", "matches")
}

// IsInvalid reports whether v is the value of a field whose content is none
// of its type.
func IsInvalid(v Value) bool { return types.IsError(v) }
