// Package signal hears what sessions of PostgreSQL tell each other (NOTIFY and LISTEN).
package signal

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

const (
	asksAfter = 30 * time.Second // after which the connection is asked whether it lives
	patience  = 10 * time.Second // with a database that takes connections and is silent
)

// Listen calls heard whenever something is told on a channel, and once when it begins to listen,
// since something may have been missed before; until ctx ends or the connection does. A database that
// is silent is found when it begins, and by a question now and then, after which quiet is called, if it is given.
func Listen(ctx context.Context, config *pgx.ConnConfig, channel string, heard, quiet func()) error {
	beginning, begun := context.WithTimeout(ctx, patience)
	defer begun()
	conn, err := pgx.ConnectConfig(beginning, config)
	if err != nil {
		return err
	}
	defer func() {
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		conn.Close(ending)
	}()
	if _, err := conn.Exec(beginning, "LISTEN "+pgx.Identifier{channel}.Sanitize()); err != nil {
		return err
	}
	begun()
	heard()
	for {
		waiting, cancel := context.WithTimeout(ctx, asksAfter)
		_, err := conn.WaitForNotification(waiting)
		late := waiting.Err() != nil && ctx.Err() == nil
		cancel()
		if err == nil {
			heard()
			continue
		}
		if !late {
			return err
		}
		asking, cancel := context.WithTimeout(ctx, patience)
		err = conn.Ping(asking)
		cancel()
		if err != nil {
			return err
		}
		if quiet != nil {
			quiet()
		}
	}
}
