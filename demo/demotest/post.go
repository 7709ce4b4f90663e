package demotest

import (
	"fmt"
	"io"
	"strings"
)

// Post writes a request to the endpoint of a service on this machine, by hand, for
// tests of callers that no HTTP client is: its body is told to have so many bytes,
// and begins with these.
func Post(w io.Writer, size int, body []byte) {
	head := []string{"POST /graphql HTTP/1.1", "Host: localhost", "Content-Type: application/json", fmt.Sprint("Content-Length: ", size), "Connection: close"}
	io.WriteString(w, strings.Join(head, "\r\n")+"\r\n\r\n")
	w.Write(body)
}
