package check_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"stavren.example/stavren/check"
	"stavren.example/stavren/finding"
)

// allRules returns every rule of this package.
func allRules() []finding.Rule { return append(check.Rules(), check.TargetRules()...) }

// themeFile returns the name of a theme's file, without its extension.
func themeFile(theme string) string { return strings.ReplaceAll(theme, " ", "_") }

// TestThemeIsFile checks that the rules of a theme, and the functions that look for
// them, are in the file of that name.
func TestThemeIsFile(t *testing.T) {
	for _, rule := range allRules() {
		t.Run(rule.Name, func(t *testing.T) {
			file := themeFile(rule.Theme) + ".go"
			parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
			if err != nil {
				t.Fatal(err)
			}
			function, isListed := listed(parsed, rule.Name)
			if !isListed {
				t.Fatalf("%s does not list the rule; a rule belongs in the file of its theme", file)
			}
			if function != "" && parsed.Scope.Lookup(function) == nil {
				t.Errorf("%s lists %s, which is in another file; move it", file, function)
			}
		})
	}
}

// listed finds the name of a rule in a file, and the function that looks for it if the
// name is the first argument of a call.
func listed(file *ast.File, rule string) (function string, isListed bool) {
	ast.Inspect(file, func(node ast.Node) bool {
		switch node := node.(type) {
		case *ast.BasicLit:
			isListed = isListed || node.Value == strconv.Quote(rule)
		case *ast.CallExpr:
			if len(node.Args) > 1 && isText(node.Args[0], rule) {
				if look, ok := node.Args[len(node.Args)-1].(*ast.Ident); ok {
					function = look.Name
				}
			}
		}
		return true
	})
	return function, isListed
}

func isText(node ast.Expr, text string) bool {
	literal, ok := node.(*ast.BasicLit)
	return ok && literal.Value == strconv.Quote(text)
}

// TestRuleFolders checks that every rule has a folder of its own, and that no folder is
// left of a rule that is gone.
func TestRuleFolders(t *testing.T) {
	known := map[string]bool{}
	for _, rule := range allRules() {
		folder := filepath.Join("rules", themeFile(rule.Theme), rule.Name)
		known[folder] = true
		if _, err := os.Stat(filepath.Join(folder, "why.md")); err != nil {
			t.Errorf("the rule %s needs %s/why.md: %v", rule.Name, folder, err)
		}
		if hole := regexp.MustCompile(`\{[a-z A-Z]+\}`).FindString(rule.Why); hole != "" {
			t.Errorf("%s/why.md has %s, for which facts in rule.go has no value", folder, hole)
		}
	}
	folders, err := filepath.Glob("rules/*/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, folder := range folders {
		if !known[folder] {
			t.Errorf("%s belongs to no rule; remove it, or list the rule in its theme's file", folder)
		}
	}
}
