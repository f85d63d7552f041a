package expr

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// look is the hidden word that exists asks: CEL's functions see nothing but their
// arguments, so exists("PATH") is read as exists_in(@look, "PATH").
const look = "@look"

var existsOptions = []cel.EnvOption{
	cel.Variable(look, cel.DynType),
	cel.Macros(cel.GlobalMacro("exists", 1, func(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr,
		*cel.Error) {
		return f.NewCall("exists_in", f.NewIdent(look), args[0]), nil
	})),
	cel.Function("exists_in", cel.Overload("exists_in_text", []*cel.Type{cel.DynType, cel.StringType}, cel.BoolType,
		cel.BinaryBinding(func(in, path ref.Val) ref.Val {
			l, ok := in.(looker)
			if !ok {
				return types.NewErr("files cannot be looked at here")
			}
			is, err := l.exists(string(path.(types.String)))
			if err != nil {
				return types.WrapErr(err)
			}
			return types.Bool(is)
		}))),
}

// Exists has exists ask a function: whether a path is there.
func (v Values) Exists(is func(path string) (bool, error)) { v[look] = looker{is} }

// looker is the function as a value of CEL.
type looker struct {
	exists func(path string) (bool, error)
}

func (looker) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("it cannot become %s", t)
}
func (looker) ConvertToType(ref.Type) ref.Val { return types.NewErr("it has no other type") }
func (looker) Equal(ref.Val) ref.Val          { return types.False }
func (looker) Type() ref.Type                 { return types.DynType }
func (l looker) Value() any                   { return l }
