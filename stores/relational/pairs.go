package relational

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/store"
)

// This file has what is said of the pairs of a many-to-many relationship, which can hold
// one several times.

// repeats reports whether a join table can hold a pair several times: no unique key is
// among the fields of its pairs. A record is given once, however often it is linked.
func (l *layout) repeats(t *store.JoinTable) bool {
	return !slices.ContainsFunc(l.catalogue.Sets[t.Set].Keys, func(key []string) bool {
		return !slices.ContainsFunc(key, func(path string) bool {
			return !slices.Contains(t.Here, path) && !slices.Contains(t.There, path)
		})
	})
}

// repeatsInSQL reports whether repeated pairs must be one to the database: it bounds or
// counts the rows, or others hang from them. Otherwise they are dropped here, which
// costs less.
func (l *layout) repeatsInSQL(read int) bool {
	r := l.reads[read]
	return r.Limit || r.Offset || r.Aggregates || slices.ContainsFunc(l.reads[read+1:], func(below *store.Read) bool { return below.Parent == read })
}

// distinctPairs writes a SELECT of a read's pairs that fit, each once.
func (s *statement) distinctPairs(read int, where string) string {
	t := s.reads[read].JoinTable
	var names []string
	for _, path := range slices.Concat(t.Here, t.There) {
		names = append(names, s.column("m", read, path))
	}
	return "SELECT DISTINCT " + strings.Join(names, ", ") + " FROM " + s.quote(t.Set) + fmt.Sprintf(" m%d", read) + " WHERE " + where + s.pairsFit(read)
}

// pairsFit writes " AND …" for what a read's pairs must fit.
func (s *statement) pairsFit(read int) string {
	t := s.reads[read].JoinTable
	return s.all(read, fmt.Sprintf("m%d", read), t.Set, t.Where)
}

// pairJoin writes how a row belongs to its pair; distinct says that what the pair must fit was looked at.
func (s *statement) pairJoin(read int, r *store.Read, distinct bool) string {
	fit := ""
	if !distinct {
		fit = s.pairsFit(read)
	}
	return s.equalFields(fields{fmt.Sprintf("t%d", read), r.Set, r.There}, fields{fmt.Sprintf("m%d", read), r.JoinTable.Set, r.JoinTable.There}) + fit
}
