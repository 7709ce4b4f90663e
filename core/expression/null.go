package expression

import (
	"strings"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// This file says what null is to expressions, and to the conditions of rules.

// CompileRule compiles a condition. To it, null equals nothing but the word null, as it does to stores: a
// caller without an id is not the owner of what has none.
func CompileRule(text string, inputs map[string]*Type) (*Program, error) {
	return compile(text, inputs, &Type{Kind: Bool, Nullable: true}, nil, allowNull, nullEqualsNothing)
}

// allowNull lets a choice have null on one side, whatever the other gives: null is of
// no type that any other could be.
func allowNull(a *ast.AST) {
	fac, next := ast.NewExprFactory(), ast.MaxID(a)
	ast.PostOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind || e.AsCall().FunctionName() != operators.Conditional {
			return
		}
		for _, arg := range e.AsCall().Args()[1:] {
			if isNull(arg) {
				next++
				arg.SetKindCase(fac.NewCall(arg.ID(), "dyn", fac.NewLiteral(next, types.NullValue)))
			}
		}
	}))
}

// nullEqualsNothing makes comparisons of two values false where one of them is null: a == b becomes
// null in [dyn(a), dyn(b)] ? false : a == b, and a != b its opposite. What cannot be evaluated makes neither.
func nullEqualsNothing(a *ast.AST) {
	fac, next := ast.NewExprFactory(), ast.MaxID(a)
	id := func() int64 { next++; return next }
	ast.PostOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		name, args := e.AsCall().FunctionName(), e.AsCall().Args()
		if name != operators.Equals && name != operators.NotEquals || isLiteral(args[0]) || isLiteral(args[1]) {
			return
		}
		dyn := func(of ast.Expr) ast.Expr { return fac.NewCall(id(), "dyn", of) }
		both := fac.NewList(id(), []ast.Expr{dyn(fac.CopyExpr(args[0])), dyn(fac.CopyExpr(args[1]))}, nil)
		either := fac.NewCall(id(), operators.In, dyn(fac.NewLiteral(id(), types.NullValue)), both)
		same := fac.NewCall(id(), name, args...)
		e.SetKindCase(fac.NewCall(e.ID(), operators.Conditional, either, fac.NewLiteral(id(), types.Bool(name == operators.NotEquals)), same))
	}))
}

func isLiteral(e ast.Expr) bool { return e.Kind() == ast.LiteralKind }

func isNull(e ast.Expr) bool {
	return e.Kind() == ast.LiteralKind && e.AsLiteral() == types.NullValue
}

// Absent reports whether an expression failed since it looked for what a caller has not said of itself.
func Absent(err error) bool { return strings.Contains(err.Error(), "a key is not there") }
