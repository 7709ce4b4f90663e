// Package snippet writes operations as calls of a program, with nothing but what its language brings: a shell with
// curl, Python, JavaScript and Go.
package snippet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// A Call is an operation and where it is sent.
type Call struct {
	URL       string // of the endpoint
	Query     string
	Name      string         // of the operation, if the text has several
	Variables map[string]any // as decoded JSON
}

// Languages are the languages in which calls are written.
var Languages = []string{"curl", "python", "javascript", "go"}

// Write writes a call in a language. The key is taken from the environment variable OSPREY_KEY, if there is one.
func Write(language string, c Call) (string, error) {
	write := map[string]func(Call) string{"curl": curl, "python": python, "javascript": javascript, "go": golang}[language]
	if write == nil {
		return "", fmt.Errorf("calls are written in %s, and not in %q", strings.Join(Languages, ", "), language)
	}
	return write(c), nil
}

// body returns what is sent, as JSON.
func (c Call) body() string {
	members := []string{`"query": ` + asJSON(c.Query)}
	if c.Name != "" {
		members = append(members, `"operationName": `+asJSON(c.Name))
	}
	if len(c.Variables) > 0 {
		members = append(members, `"variables": `+asJSON(c.Variables))
	}
	return "{" + strings.Join(members, ", ") + "}"
}

func asJSON(v any) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return "null" // variables were decoded from JSON
	}
	return strings.TrimSpace(b.String())
}

// curl writes a command of a POSIX shell. The body is a here-document, in which nothing has a meaning: JSON has no
// line of its own that could end it.
func curl(c Call) string {
	return "curl --silent --show-error " + shellQuoted(c.URL) + " \\\n" +
		"  --header 'Content-Type: application/json' \\\n" +
		"  ${OSPREY_KEY:+--header \"Authorization: Bearer $OSPREY_KEY\"} \\\n" +
		"  --data-binary @- <<'END'\n" + c.body() + "\nEND\n"
}

func shellQuoted(text string) string {
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// lines reports whether a text is better read as it is: it has several lines, and none of some marks, of which the
// language makes something else.
func lines(text string, marks ...string) bool {
	return strings.Contains(text, "\n") && !strings.ContainsAny(text, "\\\r\x00") && !slices.ContainsFunc(marks, func(m string) bool { return strings.Contains(text, m) })
}

func python(c Call) string {
	query := asPython(c.Query)
	if lines(c.Query, `"""`) && !strings.HasSuffix(c.Query, `"`) {
		query = `"""` + c.Query + `"""`
	}
	var b strings.Builder
	b.WriteString("import json\nimport os\nimport urllib.request\n\nquery = " + query + "\n")
	members := []string{`"query": query`}
	if c.Name != "" {
		members = append(members, `"operationName": `+asPython(c.Name))
	}
	if len(c.Variables) > 0 {
		b.WriteString("variables = " + asPython(c.Variables) + "\n")
		members = append(members, `"variables": variables`)
	}
	b.WriteString("\nrequest = urllib.request.Request(\n    " + asPython(c.URL) + ",\n    data=json.dumps({" + strings.Join(members, ", ") + "}).encode(),\n" +
		"    headers={\"Content-Type\": \"application/json\", \"Accept\": \"application/json\"},\n)\n" +
		"if os.environ.get(\"OSPREY_KEY\"):\n    request.add_header(\"Authorization\", \"Bearer \" + os.environ[\"OSPREY_KEY\"])\n" +
		"with urllib.request.urlopen(request) as response:\n    answer = json.load(response)\nprint(json.dumps(answer, indent=2, ensure_ascii=False))\n")
	return b.String()
}

// asPython writes decoded JSON as Python has it.
func asPython(v any) string {
	switch v := v.(type) {
	case nil:
		return "None"
	case bool:
		return map[bool]string{true: "True", false: "False"}[v]
	case []any:
		items := make([]string, len(v))
		for i := range v {
			items[i] = asPython(v[i])
		}
		return "[" + strings.Join(items, ", ") + "]"
	case map[string]any:
		var items []string
		for _, name := range sortedKeys(v) {
			items = append(items, asJSON(name)+": "+asPython(v[name]))
		}
		return "{" + strings.Join(items, ", ") + "}"
	}
	return asJSON(v) // whose texts and numbers mean the same there
}

func sortedKeys(m map[string]any) []string {
	var names []string
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func javascript(c Call) string {
	query := asJSON(c.Query)
	if lines(c.Query, "`", "${") {
		query = "`" + c.Query + "`"
	}
	var b strings.Builder
	b.WriteString("const query = " + query + ";\n")
	members := []string{"query"}
	if c.Name != "" {
		members = append(members, "operationName: "+asJSON(c.Name))
	}
	if len(c.Variables) > 0 {
		b.WriteString("const variables = " + asJSON(c.Variables) + ";\n")
		members = append(members, "variables")
	}
	b.WriteString("\nconst headers = { \"Content-Type\": \"application/json\" };\nif (process.env.OSPREY_KEY) headers.Authorization = `Bearer ${process.env.OSPREY_KEY}`;\n" +
		"const response = await fetch(" + asJSON(c.URL) + ", {\n  method: \"POST\",\n  headers,\n  body: JSON.stringify({ " + strings.Join(members, ", ") + " }),\n});\n" +
		"console.log(JSON.stringify(await response.json(), null, 2));\n")
	return b.String()
}

func golang(c Call) string {
	query := strconv.Quote(c.Query)
	if lines(c.Query, "`") {
		query = "`" + c.Query + "`"
	}
	members := []string{`"query": query`}
	if c.Name != "" {
		members = append(members, `"operationName": `+strconv.Quote(c.Name))
	}
	variables := ""
	if len(c.Variables) > 0 {
		text := asJSON(c.Variables)
		variables = "\nconst variables = " + strconv.Quote(text) + "\n"
		if !strings.Contains(text, "`") {
			variables = "\nconst variables = `" + text + "`\n"
		}
		members = append(members, `"variables": json.RawMessage(variables)`)
	}
	return "package main\n\nimport (\n\t\"bytes\"\n\t\"encoding/json\"\n\t\"fmt\"\n\t\"io\"\n\t\"log\"\n\t\"net/http\"\n\t\"os\"\n)\n\nconst query = " + query + "\n" + variables + `
func main() {
	body, err := json.Marshal(map[string]any{` + strings.Join(members, ", ") + `})
	if err != nil {
		log.Fatal(err)
	}
	req, err := http.NewRequest(http.MethodPost, ` + strconv.Quote(c.URL) + `, bytes.NewReader(body))
	if err != nil {
		log.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if key := os.Getenv("OSPREY_KEY"); key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		log.Fatal(err)
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(res.Body)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(string(answer))
}
`
}
