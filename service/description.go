package service

import (
	_ "embed"
	"net/http"
	"sync"

	"github.com/goccy/go-yaml"
)

//go:embed openapi.yaml
var openapi []byte

// described is the description of the calls in JSON.
var described = sync.OnceValue(func() []byte {
	text, err := yaml.YAMLToJSON(openapi)
	if err != nil {
		panic(err) // it is part of the program
	}
	return text
})

// description describes the calls below /api/v1/ (OpenAPI 3.0).
func (s *Service) description(w http.ResponseWriter, r *http.Request) {
	write(w, http.StatusOK, "application/json; charset=utf-8", described())
}
