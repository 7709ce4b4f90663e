package editor

import "encoding/json"

// The shapes of messages, of the Language Server Protocol, version 3.17: the parts of them that
// are used here. The comments name the chapters of its specification.

// A position is a place in a text ("Position"): its line from 0, and how many units of the
// agreed encoding stand before it there.
type position struct {
	Line      int `json:"line"`
	Character int `json:"character"`
}

// A span is a stretch of a text ("Range").
type span struct {
	Start position `json:"start"`
	End   position `json:"end"`
}

// A location is a span of a file ("Location").
type location struct {
	URI   string `json:"uri"`
	Range span   `json:"range"`
}

// A textEdit puts a text in place of a span ("Text Edit").
type textEdit struct {
	Range   span   `json:"range"`
	NewText string `json:"newText"`
}

// A workspaceEdit is changes of several files ("WorkspaceEdit").
type workspaceEdit struct {
	Changes map[string][]textEdit `json:"changes"`
}

// initializeParams are what an editor says of itself ("Initialize Request").
type initializeParams struct {
	RootURI          string `json:"rootUri"`
	WorkspaceFolders []struct {
		URI string `json:"uri"`
	} `json:"workspaceFolders"`
	Capabilities struct {
		General struct {
			PositionEncodings []string `json:"positionEncodings"`
		} `json:"general"`
		TextDocument struct {
			Completion struct {
				CompletionItem struct {
					SnippetSupport bool `json:"snippetSupport"`
				} `json:"completionItem"`
			} `json:"completion"`
		} `json:"textDocument"`
		Workspace struct {
			DidChangeWatchedFiles struct {
				DynamicRegistration bool `json:"dynamicRegistration"`
			} `json:"didChangeWatchedFiles"`
		} `json:"workspace"`
	} `json:"capabilities"`
}

// documentParams name a file ("TextDocumentIdentifier"), and what has become of its text
// ("Text Document Synchronization").
type documentParams struct {
	TextDocument struct {
		URI     string `json:"uri"`
		Version int    `json:"version"`
		Text    string `json:"text"` // when it is opened
	} `json:"textDocument"`
	ContentChanges []struct {
		Range *span  `json:"range"` // nil for the whole text
		Text  string `json:"text"`
	} `json:"contentChanges"`
}

// placeParams name a place in a file ("TextDocumentPositionParams"), and what is wanted there.
type placeParams struct {
	TextDocument struct {
		URI string `json:"uri"`
	} `json:"textDocument"`
	Position position `json:"position"`
	Range    span     `json:"range"`   // of code actions
	NewName  string   `json:"newName"` // of renaming
	Context  struct {
		IncludeDeclaration bool `json:"includeDeclaration"` // of references
	} `json:"context"`
}

// commandParams name a command ("Execute a command").
type commandParams struct {
	Command   string            `json:"command"`
	Arguments []json.RawMessage `json:"arguments"`
}

// A diagnostic is something wrong ("Diagnostic").
type diagnostic struct {
	Range    span   `json:"range"`
	Severity int    `json:"severity"` // 1 an error, 2 a warning
	Code     string `json:"code,omitempty"`
	Source   string `json:"source"`
	Message  string `json:"message"`
}

// A published is all that is wrong with a file ("PublishDiagnostics Notification").
type published struct {
	URI         string       `json:"uri"`
	Version     *int         `json:"version,omitempty"`
	Diagnostics []diagnostic `json:"diagnostics"`
}

// A markup is a text in Markdown ("MarkupContent").
type markup struct {
	Kind  string `json:"kind"`
	Value string `json:"value"`
}

// A hover is what is told of a word ("Hover Request").
type hover struct {
	Contents markup `json:"contents"`
	Range    span   `json:"range"`
}

// A completionItem is a word that can be written ("Completion Request").
type completionItem struct {
	Label            string    `json:"label"`
	Kind             int       `json:"kind,omitempty"`
	Detail           string    `json:"detail,omitempty"`
	Documentation    *markup   `json:"documentation,omitempty"`
	SortText         string    `json:"sortText"`
	FilterText       string    `json:"filterText,omitempty"`
	InsertTextFormat int       `json:"insertTextFormat,omitempty"` // 2 for a snippet
	TextEdit         *textEdit `json:"textEdit"`
}

// completionKinds are the numbers of kinds of completions.
var completionKinds = map[string]int{"field": 5, "argument": 10, "type": 7, "value": 20, "variable": 6, "fragment": 15, "directive": 3, "keyword": 14, "source": 9, "set": 22, "column": 5}

// A codeAction is something that can be done ("Code Action Request").
type codeAction struct {
	Title       string         `json:"title"`
	Kind        string         `json:"kind"`
	Diagnostics []diagnostic   `json:"diagnostics,omitempty"`
	IsPreferred bool           `json:"isPreferred,omitempty"`
	Edit        *workspaceEdit `json:"edit,omitempty"`
}

// A documentSymbol is an entry of an outline ("Document Symbols Request").
type documentSymbol struct {
	Name           string           `json:"name"`
	Detail         string           `json:"detail,omitempty"`
	Kind           int              `json:"kind"`
	Range          span             `json:"range"`
	SelectionRange span             `json:"selectionRange"`
	Children       []documentSymbol `json:"children,omitempty"`
}

// A watcher is files that the editor tells of when they change on the disk
// ("DidChangeWatchedFiles Notification").
type watcher struct {
	GlobPattern string `json:"globPattern"`
}
