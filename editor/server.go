// Package editor speaks the Language Server Protocol with an editor, over a stream: what is
// wrong with a project's files while they are written, what can be written, and what a word
// means, of the project's types against what its stores hold now.
package editor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"runtime/debug"
	"sync"
	"time"

	"github.com/sourcegraph/jsonrpc2"
)

// The codes of errors ("Base Protocol JSON structures").
const (
	codeNotInitialized = -32002
	codeRefused        = -32803 // RequestFailed: what was asked for cannot be done, and why is told
)

// errBroken is the error of an editor that went away without a word.
var errBroken = errors.New("the editor broke off without \"shutdown\" and \"exit\"")

// A Server serves one editor.
type Server struct {
	Log     *slog.Logger
	Version string

	conn *jsonrpc2.Conn
	ctx  context.Context

	mu       sync.Mutex // guards what follows
	state    state
	encoding encoding
	snippets bool
	open     map[string]*document // by path
	homes    map[string]*home     // by folder
	watched  bool                 // whether files can be asked to be watched
	exited   bool
}

type state uint8

const (
	fresh state = iota
	ready
	shut
)

// Serve speaks with an editor until that ends it; the error says that it did not end well.
func (s *Server) Serve(ctx context.Context, stream io.ReadWriteCloser) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s.ctx, s.encoding, s.open, s.homes = ctx, units, map[string]*document{}, map[string]*home{}
	quiet := &complaints{}
	s.mu.Lock() // nothing is answered before there is something to answer over
	s.conn = jsonrpc2.NewConn(ctx, jsonrpc2.NewBufferedStream(stream, jsonrpc2.VSCodeObjectCodec{}), s, jsonrpc2.SetLogger(quiet))
	s.mu.Unlock()
	select {
	case <-s.conn.DisconnectNotify():
	case <-ctx.Done():
		s.conn.Close()
		<-s.conn.DisconnectNotify()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, h := range s.homes {
		if h.desk != nil {
			h.desk.Close()
		}
	}
	if s.exited && s.state == shut || ctx.Err() != nil {
		return nil
	}
	if quiet.last != "" {
		return fmt.Errorf("%w: %s", errBroken, quiet.last)
	}
	return errBroken
}

// complaints keep what the stream complained of last. It is read when the stream has ended.
type complaints struct{ last string }

func (c *complaints) Printf(format string, v ...any) { c.last = fmt.Sprintf(format, v...) }

// handlers are the requests that are answered. They are called one after the other, with the
// lock held.
var handlers = map[string]func(s *Server, params json.RawMessage) (any, error){
	"shutdown":                       func(s *Server, _ json.RawMessage) (any, error) { s.state = shut; return nil, nil },
	"textDocument/hover":             at((*Server).hover),
	"textDocument/completion":        at((*Server).completion),
	"textDocument/definition":        at((*Server).definition),
	"textDocument/references":        at((*Server).references),
	"textDocument/documentHighlight": at((*Server).highlights),
	"textDocument/prepareRename":     at((*Server).prepareRename),
	"textDocument/rename":            at((*Server).rename),
	"textDocument/codeAction":        at((*Server).codeActions),
	"textDocument/formatting":        at((*Server).formatting),
	"textDocument/documentSymbol":    at((*Server).symbols),
	"workspace/executeCommand":       (*Server).execute,
}

// notices are what is told and not answered.
var notices = map[string]func(s *Server, params json.RawMessage) error{
	"initialized":                     func(s *Server, _ json.RawMessage) error { s.watch(); return nil },
	"textDocument/didOpen":            of((*Server).didOpen),
	"textDocument/didChange":          of((*Server).didChange),
	"textDocument/didClose":           of((*Server).didClose),
	"textDocument/didSave":            of((*Server).didSave),
	"workspace/didChangeWatchedFiles": func(s *Server, _ json.RawMessage) error { s.changedOutside(); return nil },
}

// of reads what is told of a file.
func of(tell func(s *Server, p *documentParams) error) func(*Server, json.RawMessage) error {
	return func(s *Server, raw json.RawMessage) error {
		p := &documentParams{}
		if err := json.Unmarshal(raw, p); err != nil {
			return err
		}
		return tell(s, p)
	}
}

// at reads the params of a request about a place in a file.
func at(answer func(s *Server, p *placeParams) (any, error)) func(*Server, json.RawMessage) (any, error) {
	return func(s *Server, raw json.RawMessage) (any, error) {
		p := &placeParams{}
		if err := json.Unmarshal(raw, p); err != nil {
			return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: "the params are not those of a request about a file"}
		}
		return answer(s, p)
	}
}

// Handle answers a message. It is called for one after the other.
func (s *Server) Handle(ctx context.Context, conn *jsonrpc2.Conn, req *jsonrpc2.Request) {
	began := time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	var params json.RawMessage
	if req.Params != nil {
		params = *req.Params
	}
	if req.Notif {
		if req.Method == "exit" {
			s.exited = true
			go conn.Close()
			return
		}
		if tell := notices[req.Method]; tell != nil && s.state == ready {
			if err := s.safely(func() error { return tell(s, params) }); err != nil {
				s.Log.Warn("a message of the editor cannot be used", "method", req.Method, "error", err)
			}
		}
		return
	}
	result, err := s.answer(req.Method, params)
	if err == nil {
		err = conn.Reply(ctx, req.ID, result)
	} else {
		var coded *jsonrpc2.Error
		if !errors.As(err, &coded) {
			coded = &jsonrpc2.Error{Code: codeRefused, Message: err.Error()}
		}
		err = conn.ReplyWithError(ctx, req.ID, coded)
	}
	if err != nil && !errors.Is(err, jsonrpc2.ErrClosed) {
		s.Log.Warn("an answer did not reach the editor", "method", req.Method, "error", err)
	}
	s.Log.Debug("answered", "method", req.Method, "took", time.Since(began))
}

// answer answers a request.
func (s *Server) answer(method string, params json.RawMessage) (result any, err error) {
	answer := handlers[method]
	switch {
	case method == "initialize" && s.state == fresh:
		return s.initialize(params)
	case s.state == fresh:
		return nil, &jsonrpc2.Error{Code: codeNotInitialized, Message: "the first request is initialize"}
	case s.state == shut || method == "initialize":
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: method + " cannot be asked now"}
	case answer == nil:
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: "there is no method " + method}
	}
	err = s.safely(func() error {
		result, err = answer(s, params)
		return err
	})
	return result, err
}

// safely turns a panic into an error: an editor is not to be left alone for a text that is odd.
func (s *Server) safely(do func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			s.Log.Error("a fault of the language service", "panic", r, "stack", string(debug.Stack()))
			err = &jsonrpc2.Error{Code: jsonrpc2.CodeInternalError, Message: "a fault of the language service; its log has the details"}
		}
	}()
	return do()
}

// initialize agrees with the editor on what both can ("Initialize Request").
func (s *Server) initialize(raw json.RawMessage) (any, error) {
	var p initializeParams
	if err := json.Unmarshal(raw, &p); err != nil {
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: "the params are not those of initialize"}
	}
	for _, e := range p.Capabilities.General.PositionEncodings {
		if encoding(e) == bytes || encoding(e) == points {
			s.encoding = encoding(e)
			break
		}
		if encoding(e) == units {
			break
		}
	}
	s.snippets = p.Capabilities.TextDocument.Completion.CompletionItem.SnippetSupport
	s.watched = p.Capabilities.Workspace.DidChangeWatchedFiles.DynamicRegistration
	s.state = ready
	return map[string]any{
		"serverInfo": map[string]string{"name": "osprey", "version": s.Version},
		"capabilities": map[string]any{
			"positionEncoding":           s.encoding,
			"textDocumentSync":           map[string]any{"openClose": true, "change": 2, "save": map[string]any{"includeText": false}},
			"completionProvider":         map[string]any{"triggerCharacters": []string{"@", "\"", "(", "{", "[", ".", ":", "$", "&", "|"}},
			"hoverProvider":              true,
			"definitionProvider":         true,
			"referencesProvider":         true,
			"documentHighlightProvider":  true,
			"documentSymbolProvider":     true,
			"documentFormattingProvider": true,
			"renameProvider":             map[string]any{"prepareProvider": true},
			"codeActionProvider":         map[string]any{"codeActionKinds": []string{"quickfix"}},
			"executeCommandProvider":     map[string]any{"commands": []string{commandRefresh}},
		},
	}, nil
}

// watch asks the editor to tell of files that change on the disk.
func (s *Server) watch() {
	if !s.watched {
		return
	}
	go s.conn.Call(s.ctx, "client/registerCapability", map[string]any{"registrations": []any{map[string]any{
		"id": "files", "method": "workspace/didChangeWatchedFiles",
		"registerOptions": map[string]any{"watchers": []watcher{{"**/*.graphql"}, {"**/osprey.yaml"}}},
	}}}, nil)
}
