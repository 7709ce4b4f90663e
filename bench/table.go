package main

import (
	"fmt"
	"os"
	"slices"
	"text/tabwriter"
	"time"
)

// baseline is the peer that throughput is told against.
const baseline = "levels"

// printTable prints what was measured of n parents; 0 for what has no number.
func printTable(servers []*server, results map[*server][]*sample, n, clients int) {
	of := ""
	if n > 0 {
		of = plural(n, "port call") + ", "
	}
	fmt.Printf("\n%s%s\n", of, plural(clients, "client"))
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "per s\t±\tagainst usual\tmedian\tp99\town cpu\tdatabase cpu\tallocs\tallocated\tanswer\t\t")
	usual := 0.0
	for _, s := range servers {
		if s.name == baseline {
			usual = median(results[s], (*sample).throughput)
		}
	}
	for _, s := range servers {
		list := results[s]
		rate := median(list, (*sample).throughput)
		against := "-"
		if usual > 0 {
			against = fmt.Sprintf("%.2f", rate/usual)
		}
		of := func(f func(*sample) float64) float64 {
			return median(list, func(s *sample) float64 { return s.each(f(s)) })
		}
		fmt.Fprintf(w, "%.0f\t%.0f%%\t%s\t%s\t%s\t%s\t%s\t%.0f\t%s\t%s\t  %s\t\n",
			rate, 100*spread(list, (*sample).throughput), against,
			short(duration(list, 0.5)), short(duration(list, 0.99)),
			short(time.Duration(of(func(s *sample) float64 { return float64(s.server.Processor) }))),
			short(time.Duration(of(func(s *sample) float64 { return float64(s.stores) }))),
			of(func(s *sample) float64 { return float64(s.server.Mallocs) }),
			size(of(func(s *sample) float64 { return float64(s.server.Bytes) })),
			size(float64(list[0].bytes)), s.title)
	}
	w.Flush()
}

func duration(list []*sample, q float64) time.Duration {
	return time.Duration(median(list, func(s *sample) float64 { return float64(s.quantile(q)) }))
}

// median returns the middle of what the rounds say.
func median(list []*sample, f func(*sample) float64) float64 {
	values := sorted(list, f)
	if len(values) == 0 {
		return 0
	}
	return (values[(len(values)-1)/2] + values[len(values)/2]) / 2
}

// spread returns half the distance between the quartiles, as a share of the
// median.
func spread(list []*sample, f func(*sample) float64) float64 {
	values := sorted(list, f)
	if len(values) < 2 {
		return 0
	}
	return (values[len(values)*3/4] - values[len(values)/4]) / 2 / median(list, f)
}

func sorted(list []*sample, f func(*sample) float64) []float64 {
	var values []float64
	for _, s := range list {
		values = append(values, f(s))
	}
	slices.Sort(values)
	return values
}

// short writes a time with three digits.
func short(d time.Duration) string {
	switch {
	case d < 10*time.Microsecond:
		return fmt.Sprintf("%.2f µs", float64(d)/1e3)
	case d < time.Millisecond:
		return fmt.Sprintf("%.0f µs", float64(d)/1e3)
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d)/1e6)
	case d < 100*time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(d)/1e6)
	}
	return fmt.Sprintf("%.0f ms", float64(d)/1e6)
}

func size(bytes float64) string {
	switch {
	case bytes == 0:
		return "-"
	case bytes < 10_000:
		return fmt.Sprintf("%.0f B", bytes)
	case bytes < 10_000_000:
		return fmt.Sprintf("%.0f kB", bytes/1e3)
	}
	return fmt.Sprintf("%.1f MB", bytes/1e6)
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
