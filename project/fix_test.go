package project_test

import (
	"os"
	"path/filepath"
	"testing"

	"osprey/demo/demotest"
	"osprey/project"
)

// TestFix writes fields of interfaces out, with those that their interfaces have from others, and
// in extensions; what is there is left as it is.
func TestFix(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml": "sources: {}\n",
		"schema/a.graphql": `# The parts.
interface Node { id: ID! }

interface Named implements Node {
  "How it is called."
  name(short: Boolean = false): String! @at(path: "title")
  old: Int @deprecated(reason: "ask for name")
}

type Boat implements Node & Named {
  # its own
  id: ID!
}

type Query { boats: [Boat!] }
`,
		"schema/b.graphql": "extend interface Node {\n  since: Date\n}\n\ntype Dock implements Node {\n  since: Date\n  id: ID!\n}\n\nextend type Tug implements Named\n\ntype Tug {\n  x: Int\n}\n",
		"schema/c.graphql": "type Broken {",
	})
	fixed, err := project.Fix(dir)
	if err != nil {
		t.Fatal(err)
	}
	var told string
	for _, f := range fixed {
		told += filepath.Base(f.File)
		for _, made := range f.Made {
			told += " " + made
		}
		told += "; "
	}
	if want := "a.graphql Boat.name Boat.old Boat.since Named.id Named.since; b.graphql Tug.id Tug.name Tug.old Tug.since; "; told != want {
		t.Errorf("fixed is %s\nwant %s", told, want)
	}
	const want = `# The parts.
interface Node {
  id: ID!
}

interface Named implements Node {
  "How it is called."
  name(short: Boolean = false): String! @at(path: "title")
  old: Int @deprecated(reason: "ask for name")
  id: ID!
  since: Date
}

type Boat implements Node & Named {
  # its own
  id: ID!
  since: Date
  "How it is called."
  name(short: Boolean = false): String!
  old: Int @deprecated(reason: "ask for name")
}

type Query {
  boats: [Boat!]
}
`
	if text, err := os.ReadFile(filepath.Join(dir, "schema/a.graphql")); err != nil || string(text) != want {
		t.Errorf("the file is\n%s%v", text, err)
	}
	if again, err := project.Fix(dir); err != nil || len(again) > 0 {
		t.Errorf("fixed twice, %v %v is found", again, err)
	}
}
