package project

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/store"
	"osprey/stores/contain"
)

// This file asks the stores for what no catalogue tells: whether they answer, and
// whether what they hold is what the schema says.

// probed is how many records of a set are looked at.
const probed = 1000

// Probe asks every store, and some records of it where their types are told by a
// value, or where only the configuration says how the store answers. Unreached is
// the names of the sources that did not answer.
func (p *Project) Probe(ctx context.Context) (findings Findings, unreached []string) {
	bound := p.Revision().Bound
	for _, name := range sortedNames(p.Sources) {
		s := p.Sources[name]
		if s.Unknown() != nil {
			continue // which is told already
		}
		if err := s.Store.Ping(ctx); err != nil {
			findings = append(findings, p.notThere(s, err))
			unreached = append(unreached, name)
			continue
		}
		told := ""
		for _, r := range recordsOf(bound, name) {
			found, err := p.probe(ctx, s, r)
			findings = append(findings, found...)
			if err == nil || reason(err) == told { // what ails all sets is one mistake
				continue
			}
			told = reason(err)
			f, down := p.answersWrong(s, r, err)
			findings = append(findings, f)
			if down {
				unreached = append(unreached, name)
				break
			}
		}
	}
	return findings, unreached
}

// recordsOf returns the record sets of a source, in the order of their types' names.
func recordsOf(bound *binding.Bound, source string) []*binding.Records {
	var list []*binding.Records
	for _, t := range bound.Schema.Types() {
		if r := bound.Records(t); r != nil && r.Source.Name == source && !slices.Contains(list, r) {
			list = append(list, r)
		}
	}
	return list
}

// probe reads some records of a set.
func (p *Project) probe(ctx context.Context, s *Source, r *binding.Records) (Findings, error) {
	wanted := store.Wanted{Kind: store.Text}
	switch can := s.Store.Capabilities(); {
	case can.CanRead != nil:
		if _, err := can.CanRead(r.Set, nil, nil); err != nil {
			return nil, nil // it is read by keys only
		}
	case r.Kind == nil:
		return nil, nil // the catalogue has told all
	}
	switch {
	case r.Kind != nil:
		wanted.Path = r.Kind.Path
	case len(r.Key) > 0:
		wanted.Path = r.Key[0]
	case r.Info != nil && len(r.Info.Fields) > 0:
		wanted.Path = r.Info.Fields[0].Name
	}
	if f := r.Info.Field(wanted.Path); f != nil && f.Kind != store.Unknown {
		wanted.Kind = f.Kind
	}
	read := &store.Read{Set: r.Set, Columns: []store.Wanted{wanted}, Parent: -1, Limit: s.Store.Capabilities().Page >= store.PageWhole}
	catalogue, _ := s.known()
	request, err := s.Store.Prepare(catalogue, []*store.Read{read})
	if err != nil {
		return nil, err
	}
	answer, err := request.Run(ctx, nil, []store.Input{{Limit: probed}})
	if err != nil || r.Kind == nil {
		return nil, err
	}
	var told []string
	for row := range answer.Tables[0].Len {
		c := &answer.Tables[0].Columns[0]
		if c.Null[row] {
			continue
		}
		if value := string(c.Text(row)); r.Kind.Types[value] == nil && !slices.Contains(told, value) {
			told = append(told, value)
		}
	}
	var problems language.Problems
	for _, value := range told {
		if f := r.Info.Field(r.Kind.Path); f != nil && slices.Contains(f.Values, value) {
			continue // which the catalogue has told already
		}
		about := r.Type.About()
		pos := about.Pos
		if d := about.Directive("kind"); d != nil {
			pos = d.Pos
		}
		problems = append(problems, binding.Unclaimed(r, pos, value))
	}
	return placed(problems, p.Revision().Schema.Source), nil
}

// waiting tells of the sources whose catalogue is not known.
func (p *Project) waiting(bound *binding.Bound) Findings {
	var list Findings
	for _, name := range sortedNames(p.Sources) {
		s := p.Sources[name]
		err := s.Unknown()
		var wrong *contain.Fault
		_, told := s.Store.(*broken)
		switch {
		case err == nil, told:
		case errors.As(err, &wrong):
			list = append(list, p.atSource(s, ruleWaiting, language.Error, fmt.Sprintf("the source %s %s", name, reason(err)), "mend it in the program"))
		case s.Elsewhere() && bound != nil && len(recordsOf(bound, name)) > 0:
			list = append(list, p.atSource(s, ruleElsewhere, language.Warning, fmt.Sprintf("the source %s is brought by a Go program, so nothing that is stored in it is checked here", name),
				"check the project in a test of that program, with osprey.Check"))
		case !s.Elsewhere():
			list = append(list, p.atSource(s, ruleWaiting, language.Warning, fmt.Sprintf("the source %s did not tell what it holds, so nothing that is bound to it is checked: it %s", name, reason(err)),
				"mend its entry in "+ConfigFile+", or start it; osprey start serves the rest, and tries it again every few seconds"))
		}
	}
	return list
}

// Waiting returns the findings that tell of sources whose catalogue is not known.
func (f Findings) Waiting() Findings {
	return slices.DeleteFunc(slices.Clone(f), func(x Finding) bool { return x.Rule != ruleWaiting })
}

// ruleWaiting is the rule under which a source is told that is not there.
const ruleWaiting = "source"

// ruleElsewhere is the rule under which a source is told that another program brings.
const ruleElsewhere = "program"

// notThere tells of a source that does not answer.
func (p *Project) notThere(s *Source, err error) Finding {
	return p.atSource(s, ruleWaiting, language.Warning, fmt.Sprintf("the source %s does not answer: it %s", s.Name, reason(err)),
		"start it, or mend its entry in "+ConfigFile+"; osprey start serves the rest, and tries it again")
}

// answersWrong tells of a source whose records cannot be read; down says that it does
// not answer at all.
func (p *Project) answersWrong(s *Source, r *binding.Records, err error) (f Finding, down bool) {
	var own *store.Error
	if errors.As(err, &own) && own.Code != store.BadAnswer && own.Code != store.BadValue {
		return p.notThere(s, err), true
	}
	return p.atSource(s, ruleWaiting, language.Error, fmt.Sprintf("the records of %s cannot be read from %s in %s: it %s", r.Type, r.Set, s.Name, reason(err)),
		"mend the read of "+r.Set+" in "+ConfigFile), false
}

// atSource places a finding at a source's entry in osprey.yaml, if it has one.
func (p *Project) atSource(s *Source, rule string, severity language.Severity, msg, fix string) Finding {
	problem := &language.Problem{Severity: severity, Rule: rule, Pos: findText(p.config, s.Name+":"), Msg: msg, Fix: fix}
	if p.Config.Sources[s.Name] == nil {
		return Finding{Problem: problem, At: language.Position{Name: "the program's source " + s.Name}}
	}
	return placed(language.Problems{problem}, inOne(p.config))[0]
}

// networkReason says why an address was not reached: which, and what the system says
// of it; "" of any other error.
func networkReason(err error) string {
	var name *net.DNSError
	if errors.As(err, &name) {
		return name.Name + ": " + name.Err
	}
	var network *net.OpError
	if !errors.As(err, &network) {
		return ""
	}
	why := network.Err
	var system *os.SyscallError
	if errors.As(why, &system) {
		why = system.Err
	}
	if network.Addr == nil {
		return why.Error()
	}
	return network.Addr.String() + ": " + why.Error()
}

// reason says why a store failed on one line: what the port says of it, and what the
// network or the database itself said, where that is known to be a sentence.
func reason(err error) string {
	var own *store.Error
	if !errors.As(err, &own) || own.Err == nil {
		return err.Error()
	}
	if why := networkReason(own.Err); why != "" {
		return own.Msg + " (" + why + ")"
	}
	cause, _, _ := strings.Cut(strings.TrimSpace(own.Err.Error()), "\n")
	if _, words, ok := strings.Cut(cause, "FATAL: "); ok {
		return own.Msg + " (" + words + ")"
	}
	if words, ok := strings.CutPrefix(cause, "Error "); ok { // the server's number, and what it says
		return own.Msg + " (" + words + ")"
	}
	return own.Msg
}
