package main

import (
	"context"
	"net/http"
)

func (b *bench) growth(ctx context.Context) error                        { return nil }
func (b *bench) engine(ctx context.Context) error                        { return nil }
func (b *bench) legs(ctx context.Context) error                          { return nil }
func legHandler(name string) func(context.Context) (http.Handler, error) { return nil }
