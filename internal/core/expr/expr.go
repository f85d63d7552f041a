// Package expr compiles the expressions of `where` and `let`: CEL, the Common
// Expression Language, over what is known about a file.
package expr

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// Env is what an expression may name.
type Env struct {
	words map[string]*cel.Type
	steps bool   // what a step's condition knows besides
	key   string // the words and their types: that of its compiler
}

// Sizes are the units that expressions multiply with.
var Sizes = map[string]int64{"KB": 1000, "MB": 1000 * 1000, "GB": 1000 * 1000 * 1000, "KiB": 1 << 10,
	"MiB": 1 << 20, "GiB": 1 << 30}

// New makes an environment with the built-in words and a rule's captures.
func New(captures []string) Env {
	e := Env{words: map[string]*cel.Type{
		"name": cel.StringType, "stem": cel.StringType, "ext": cel.StringType, "file": cel.StringType,
		"rel":  cel.StringType,
		"size": cel.IntType, "modified": cel.TimestampType, "age": cel.DurationType, "media_type": cel.StringType,
		"category": cel.StringType, "event": cel.StringType,
		"tags": cel.ListType(cel.StringType), "now": cel.TimestampType,
	}}
	for unit := range Sizes {
		e.words[unit] = cel.IntType
	}
	for _, c := range captures {
		if e.words[c] == nil {
			e.words[c] = cel.StringType
		}
	}
	return e.named()
}

// named notes the words and their types.
func (e Env) named() Env {
	var key strings.Builder
	for _, w := range e.Names() {
		key.WriteString(w + " " + e.words[w].String() + "\n")
	}
	if e.steps {
		key.WriteString("steps")
	}
	e.key = key.String()
	return e
}

// Names lists the words that an expression may use, in order.
func (e Env) Names() []string { return slices.Sorted(maps.Keys(e.words)) }

// With adds a word.
func (e Env) With(word string, t *cel.Type) Env {
	words := map[string]*cel.Type{word: t}
	for w, t := range e.words {
		words[w] = t
	}
	return Env{words: words, steps: e.steps}.named()
}

// ForSteps adds what a step's condition knows besides: the exit code of the step
// before, and whether a file is there.
func (e Env) ForSteps() Env {
	e = e.With("exit_code", cel.IntType)
	e.steps = true
	return e.named()
}

// WithText adds a word that is a text.
func (e Env) WithText(word string) Env { return e.With(word, cel.StringType) }

// Program is an expression that was checked. What evaluates it is made when it is first needed:
// of thousands of rules few meet a file at a time.
type Program struct {
	text string
	typ  *cel.Type
	run  func() (cel.Program, error)
}

// Type is what the expression gives.
func (p *Program) Type() *cel.Type { return p.typ }

// String returns the expression as it was written.
func (p *Program) String() string { return p.text }

// Error says what is wrong with an expression.
type Error struct {
	Message string
	Near    string // the part from the error on
}

func (e *Error) Error() string { return e.Message }

// Compile reads an expression; want "bool" asks for a condition. What is wrong with an
// expression is found here, when the rules are read, and not when a file comes.
func (e Env) Compile(text, want string) (*Program, error) {
	env, err := e.compiler()
	if err != nil {
		return nil, err
	}
	env.mu.Lock()
	defer env.mu.Unlock()
	if p := env.programs[text]; p != nil && (want == "" || p.typ == cel.BoolType) {
		return p, nil
	}
	p, err := env.check(text, want)
	if err == nil {
		env.programs[text] = p
	}
	return p, err
}

// check reads an expression, and keeps nothing of it but its text and type.
func (c *compiler) check(text, want string) (*Program, error) {
	compiled, issues := c.Env.Compile(text)
	if issues != nil && issues.Err() != nil {
		first := issues.Errors()[0]
		message, _, _ := strings.Cut(first.Message, " (in container")
		return nil, &Error{Message: message, Near: from(text, first.Location.Line(), first.Location.Column())}
	}
	if want == "bool" && compiled.OutputType() != cel.BoolType && compiled.OutputType() != cel.DynType {
		return nil, &Error{Message: fmt.Sprintf("it gives %s, and a condition must give true or false",
			compiled.OutputType())}
	}
	return &Program{text: text, typ: compiled.OutputType(), run: sync.OnceValues(func() (cel.Program, error) {
		return c.program(text)
	})}, nil
}

// maxCost bounds what evaluating an expression may take, in CEL's own measure.
const maxCost = 1_000_000

// program makes what evaluates an expression that was checked.
func (c *compiler) program(text string) (cel.Program, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	compiled, issues := c.Env.Compile(text)
	if issues != nil && issues.Err() != nil {
		return nil, issues.Err()
	}
	return c.Env.Program(compiled, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(maxCost))
}

// eval evaluates it.
func (p *Program) eval(v Values) (ref.Val, error) {
	run, err := p.run()
	if err != nil {
		return nil, err
	}
	out, _, err := run.Eval(map[string]any(v))
	return out, err
}

// compiler is a CEL compiler for some words, and what it compiled: rules share
// both, because many have their expressions from the same defaults.
type compiler struct {
	*cel.Env
	mu       sync.Mutex
	programs map[string]*Program
}

// compilers keeps the compilers that were made, by the words they know.
var compilers sync.Map

func (e Env) compiler() (*compiler, error) {
	if made, ok := compilers.Load(e.key); ok {
		return made.(*compiler), nil
	}
	options := []cel.EnvOption{cel.OptionalTypes()}
	if e.steps {
		options = append(options, existsOptions...)
	}
	for _, w := range e.Names() {
		options = append(options, cel.Variable(w, e.words[w]))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		return nil, err
	}
	made, _ := compilers.LoadOrStore(e.key, &compiler{Env: env, programs: map[string]*Program{}})
	return made.(*compiler), nil
}

// from returns the rest of a text from a line (from 1) and column (from 0) on.
func from(text string, line, column int) string {
	lines := strings.Split(text, "\n")
	if line < 1 || line > len(lines) {
		return ""
	}
	rest := []rune(lines[line-1])
	return string(rest[min(max(column, 0), len(rest)):])
}

// Values are what an expression's words stand for.
type Values map[string]any

// Base makes the values that do not depend on a rule.
func Base(now time.Time) Values {
	v := Values{"now": now}
	for unit, n := range Sizes {
		v[unit] = n
	}
	return v
}

// Holds evaluates a condition.
func (p *Program) Holds(v Values) (bool, error) {
	out, err := p.eval(v)
	if err != nil {
		return false, err
	}
	b, ok := out.Value().(bool)
	if !ok {
		return false, fmt.Errorf("it gives %s, not true or false", out.Type())
	}
	return b, nil
}

// Value evaluates a `let` word: as it is for later expressions, and as text
// for placeholders.
func (p *Program) Value(v Values) (value any, text string, err error) {
	out, err := p.eval(v)
	if err != nil {
		return nil, "", err
	}
	switch t := out.Value().(type) {
	case time.Time:
		return t, t.Format(time.RFC3339), nil
	case string:
		return t, t, nil
	}
	if s := out.ConvertToType(types.StringType); !types.IsError(s) {
		return out.Value(), fmt.Sprint(s.Value()), nil
	}
	return out.Value(), fmt.Sprint(out.Value()), nil
}
