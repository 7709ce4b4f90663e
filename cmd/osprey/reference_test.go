package main

import (
	"bytes"
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"
)

var update = flag.Bool("update", false, "write docs/commands.md")

// TestReferenceOfCommands keeps docs/commands.md as the commands are.
func TestReferenceOfCommands(t *testing.T) {
	root := command()
	root.Writer = &bytes.Buffer{}
	if err := root.Run(context.Background(), []string{"osprey", "--help"}); err != nil { // which sets up what the library adds
		t.Fatal(err)
	}
	var b strings.Builder
	b.WriteString("# Commands\n\n<!-- Made from the sources by: go test . ./cmd/osprey -run Reference -update -->\n\n" +
		"What `osprey` can do. `osprey help COMMAND` shows the same, and `osprey help TOPIC` these pages.\n\n" +
		"Exit codes: 0 fine; 1 the answer is \"no\" (a check found errors, an operation had errors); 2 wrong use;\n" +
		"3 something could not be reached; 130 interrupted. `OSPREY_URL` names the service, and `NO_COLOR` switches colours off.\n")
	for _, c := range root.Commands {
		section(&b, "##", "osprey "+c.Name, c)
	}
	const file = "../../docs/commands.md"
	if *update {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if string(have) != b.String() {
		t.Errorf("docs/commands.md is not what the commands say; make it again with: go test . ./cmd/osprey -run Reference -update")
	}
}

// section writes what a command can do, and those below it.
func section(b *strings.Builder, level, name string, c *cli.Command) {
	fmt.Fprintf(b, "\n%s %s\n\n%s.\n\n```\n%s%s%s\n```\n", level, name, capital(c.Usage), name, options(c), args(c))
	about, example, _ := strings.Cut(c.Description, "Example:\n")
	if about = strings.TrimSpace(about); about != "" {
		fmt.Fprintf(b, "\n%s\n", about)
	}
	if example != "" {
		b.WriteString("\n```sh\n")
		for _, line := range strings.Split(example, "\n") {
			b.WriteString(strings.TrimSpace(line) + "\n")
		}
		b.WriteString("```\n")
	}
	rows := 0
	for _, f := range c.Flags {
		named, ok := f.(cli.DocGenerationFlag)
		if !ok || f.Names()[0] == "help" {
			continue
		}
		if rows++; rows == 1 {
			b.WriteString("\n| Option | Default | |\n|---|---|---|\n")
		}
		var names []string
		for _, name := range f.Names() {
			if len(name) == 1 {
				names = append(names, "`-"+name+"`")
			} else {
				names = append(names, "`--"+name+"`")
			}
		}
		about := named.GetUsage()
		if vars := named.GetEnvVars(); len(vars) > 0 {
			about += "; also by `" + strings.Join(vars, "`, `") + "`"
		}
		fmt.Fprintf(b, "| %s | %s | %s |\n", strings.Join(names, " "), preset(named), about)
	}
	for _, below := range c.Commands {
		if below.Name != "help" {
			section(b, level+"#", name+" "+below.Name, below)
		}
	}
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func args(c *cli.Command) string {
	switch {
	case c.ArgsUsage == "" && len(c.Commands) > 1: // one of them is help
		return " COMMAND"
	case c.ArgsUsage == "":
		return ""
	}
	return " " + c.ArgsUsage
}

func options(c *cli.Command) string {
	if slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return f.Names()[0] != "help" }) {
		return " [options]"
	}
	return ""
}

// preset returns the default of an option as people write it.
func preset(f cli.DocGenerationFlag) string {
	if !f.TakesValue() {
		return "off"
	}
	return strings.Trim(cmp.Or(f.GetDefaultText(), f.GetValue()), `"[]`)
}
