package relay

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// This file is a relay over a broker: NATS, with JetStream, which keeps what was sent for some minutes.

const (
	streamName = "OSPREY"
	subject    = "osprey.wrote"
	keeps      = 10 * time.Minute
)

// A broker is a relay over NATS.
type broker struct {
	url string

	mu   sync.Mutex // guards js
	js   jetstream.JetStream
	last uint64 // the last message that was received; of Receive alone
}

// NATS returns a relay over the broker at an address, which need not answer yet.
func NATS(url string) Relay { return &broker{url: url} }

// stream returns the stream, which is made where it is not there: a broker may have lost it.
func (b *broker) stream(ctx context.Context) (jetstream.JetStream, jetstream.Stream, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.js == nil {
		conn, err := nats.Connect(b.url, nats.Name("osprey"), nats.MaxReconnects(-1), nats.ReconnectWait(200*time.Millisecond), nats.Timeout(3*time.Second))
		if err != nil {
			return nil, nil, fmt.Errorf("the broker does not answer: %w", err)
		}
		js, err := jetstream.New(conn)
		if err != nil {
			conn.Close()
			return nil, nil, err
		}
		b.js = js
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	stream, err := b.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{Name: streamName, Subjects: []string{subject}, MaxAge: keeps, MaxBytes: 64 << 20, Storage: jetstream.FileStorage})
	if err != nil {
		return nil, nil, fmt.Errorf("the broker keeps no stream: %w", err)
	}
	return b.js, stream, nil
}

// Send implements [Relay].
func (b *broker) Send(ctx context.Context, body []byte) error {
	b.mu.Lock()
	js := b.js
	b.mu.Unlock()
	if js != nil {
		if _, err := js.Publish(ctx, subject, body); err == nil {
			return nil
		}
	}
	js, _, err := b.stream(ctx)
	if err != nil {
		return err
	}
	_, err = js.Publish(ctx, subject, body)
	return err
}

// Receive implements [Relay].
func (b *broker) Receive(ctx context.Context, began func(), heard func(body []byte)) error {
	js, stream, err := b.stream(ctx)
	if err != nil {
		return err
	}
	config := jetstream.OrderedConsumerConfig{DeliverPolicy: jetstream.DeliverNewPolicy}
	switch info, err := stream.Info(ctx); {
	case err != nil:
		return err
	case b.last > info.State.LastSeq: // it is another stream, and begins anew
		config.DeliverPolicy = jetstream.DeliverAllPolicy
	case b.last > 0:
		config.DeliverPolicy, config.OptStartSeq = jetstream.DeliverByStartSequencePolicy, b.last+1
	}
	consumer, err := js.OrderedConsumer(ctx, streamName, config)
	if err != nil {
		return err
	}
	messages, err := consumer.Messages()
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, messages.Stop)
	defer stop()
	began()
	for {
		m, err := messages.Next()
		if err != nil {
			return err
		}
		if about, err := m.Metadata(); err == nil {
			b.last = about.Sequence.Stream
		}
		heard(m.Data())
	}
}
