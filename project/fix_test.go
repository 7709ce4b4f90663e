package project_test

import (
	"os"
	"path/filepath"
	"strings"
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
	fixed, err := project.Fix(dir, "")
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
	if again, err := project.Fix(dir, ""); err != nil || len(again) > 0 {
		t.Errorf("fixed twice, %v %v is found", again, err)
	}
}

// TestFixFindings mends what changes no meaning, in types and operations, and leaves the rest.
func TestFixFindings(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":            "sources: {}\n",
		"schema/a.graphql":       "# Häfen 😀\ninterface Node { id: ID! }\ninterface Named implements Node { id: ID! name: String }\ntype Boat implements Named { id: ID! name: String kind(as: Kind = \"SAIL\"): Kind }\nenum Kind { SAIL }\ntype Query { boats(kind: Kind): [Boat!] }\n",
		"operations/Ask.graphql": "# größer\nquery Ask($a: Kind, $b: Int) {\n  boats(kind: \"SAIL\") { ...Used }\n}\n\nfragment Used on Boat { name }\n\nfragment Idle on Boat { ...Other }\n\nfragment Other on Boat { id }\n",
	})
	fixed, err := project.Fix(dir, "")
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, f := range fixed {
		for _, gone := range f.Gone {
			told = append(told, filepath.Base(gone.At.Name)+": "+gone.Msg)
		}
	}
	for file, want := range map[string]string{
		"schema/a.graphql":       "type Boat implements Node & Named {\n  id: ID!\n  name: String\n  kind(as: Kind = SAIL): Kind\n}",
		"operations/Ask.graphql": "# größer\nquery Ask {\n  boats(kind: SAIL) { ...Used }\n}\n\nfragment Used on Boat { name }\n",
	} {
		if text, err := os.ReadFile(filepath.Join(dir, file)); err != nil || !strings.Contains(string(text), want) || strings.Contains(string(text), "Idle") {
			t.Errorf("%s is\n%s%v\nwant\n%s\ntold is %q", file, text, err, want, told)
		}
	}
	if again, err := project.Fix(dir, ""); err != nil || len(again) > 0 {
		t.Errorf("fixed twice, %v %v is found", again, err)
	}
}
