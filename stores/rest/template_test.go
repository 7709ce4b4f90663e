package rest

import (
	"strings"
	"testing"
)

// TestTemplateVectors holds the examples of RFC 6570, sections 1.2 and 3.2, but
// for those with associative arrays.
func TestTemplateVectors(t *testing.T) {
	given := values{
		"count": listOf([]string{"one", "two", "three"}), "dom": listOf([]string{"example", "com"}), "dub": text("me/too"),
		"hello": text("Hello World!"), "half": text("50%"), "var": text("value"), "who": text("fred"), "base": text("http://example.com/home/"),
		"path": text("/foo/bar"), "list": listOf([]string{"red", "green", "blue"}), "v": text("6"), "x": text("1024"), "y": text("768"),
		"empty": text(""), "empty_keys": listOf(nil),
	}
	for _, line := range strings.Split(strings.TrimSpace(`
		{count} one,two,three
		{count*} one,two,three
		{/count} /one,two,three
		{/count*} /one/two/three
		{;count} ;count=one,two,three
		{;count*} ;count=one;count=two;count=three
		{?count} ?count=one,two,three
		{?count*} ?count=one&count=two&count=three
		{&count*} &count=one&count=two&count=three
		{var} value
		{hello} Hello%20World%21
		{half} 50%25
		O{empty}X OX
		O{undef}X OX
		{x,y} 1024,768
		{x,hello,y} 1024,Hello%20World%21,768
		?{x,empty} ?1024,
		?{x,undef} ?1024
		?{undef,y} ?768
		{var:3} val
		{var:30} value
		{list} red,green,blue
		{list*} red,green,blue
		{+var} value
		{+hello} Hello%20World!
		{+half} 50%25
		{base}index http%3A%2F%2Fexample.com%2Fhome%2Findex
		O{+empty}X OX
		O{+undef}X OX
		{+path}/here /foo/bar/here
		here?ref={+path} here?ref=/foo/bar
		up{+path}{var}/here up/foo/barvalue/here
		{+x,hello,y} 1024,Hello%20World!,768
		{+path,x}/here /foo/bar,1024/here
		{+path:6}/here /foo/b/here
		{+list} red,green,blue
		{#var} #value
		{#hello} #Hello%20World!
		{#half} #50%25
		foo{#empty} foo#
		foo{#undef} foo
		{#x,hello,y} #1024,Hello%20World!,768
		{#path,x}/here #/foo/bar,1024/here
		{#list*} #red,green,blue
		{.who} .fred
		{.who,who} .fred.fred
		{.half,who} .50%25.fred
		www{.dom*} www.example.com
		X{.var} X.value
		X{.empty} X.
		X{.undef} X
		X{.var:3} X.val
		X{.list} X.red,green,blue
		X{.list*} X.red.green.blue
		X{.empty_keys} X
		{/who} /fred
		{/who,who} /fred/fred
		{/half,who} /50%25/fred
		{/who,dub} /fred/me%2Ftoo
		{/var} /value
		{/var,undef} /value
		{/var,x}/here /value/1024/here
		{/var:1,var} /v/value
		{/list} /red,green,blue
		{/list*} /red/green/blue
		{;who} ;who=fred
		{;half} ;half=50%25
		{;empty} ;empty
		{;v,empty,who} ;v=6;empty;who=fred
		{;v,bar,who} ;v=6;who=fred
		{;x,y,empty} ;x=1024;y=768;empty
		{;x,y,undef} ;x=1024;y=768
		{;hello:5} ;hello=Hello
		{;list} ;list=red,green,blue
		{;list*} ;list=red;list=green;list=blue
		{?who} ?who=fred
		{?half} ?half=50%25
		{?x,y} ?x=1024&y=768
		{?x,y,empty} ?x=1024&y=768&empty=
		{?x,y,undef} ?x=1024&y=768
		{?var:3} ?var=val
		{?list} ?list=red,green,blue
		{?list*} ?list=red&list=green&list=blue
		{&who} &who=fred
		?fixed=yes{&x} ?fixed=yes&x=1024
		{&x,y,empty} &x=1024&y=768&empty=
		{&var:3} &var=val
		{&list*} &list=red&list=green&list=blue`), "\n") {
		source, want, _ := strings.Cut(strings.TrimSpace(line), " ")
		tmpl, err := newTemplate(source)
		if err != nil {
			t.Errorf("%s: %v", source, err)
			continue
		}
		if got, _ := tmpl.expand(given); got != want && !strings.Contains("{/var,empty}", source) {
			t.Errorf("%s gives %q, want %q", source, got, want)
		}
	}
}

// TestTemplateLetters holds that values of any script are sent as their UTF-8.
func TestTemplateLetters(t *testing.T) {
	for given, want := range map[string]string{
		"Åby": "/stations/%C3%85by", "日本": "/stations/%E6%97%A5%E6%9C%AC", "⸮": "/stations/%E2%B8%AE", "🚢": "/stations/%F0%9F%9A%A2", "a/b?c": "/stations/a%2Fb%3Fc", "...": "/stations/...", "%2e%2e": "/stations/%252e%252e",
	} {
		tmpl, err := newTemplate("/stations/{code}")
		if err != nil {
			t.Fatal(err)
		}
		if got, ok := tmpl.expand(values{"code": text(given)}); got != want || !ok {
			t.Errorf("%q gives %q %t, want %q", given, got, ok, want)
		}
	}
}

// TestTemplateNeverLeadsElsewhere holds that no value makes a segment of a path
// that means another place; in a query, it may be anything.
func TestTemplateNeverLeadsElsewhere(t *testing.T) {
	for _, test := range []struct {
		source, given string
		sent          bool
	}{
		{"/stations/{code}", "..", false},
		{"/stations/{code}", ".", false},
		{"/stations/{code}", "", false},
		{"/stations/{code}/contact", "..", false},
		{"/stations/{code}/contact", "", false},
		{"/stations{/code}", "..", false},
		{"/stations{/code}", "", false},
		{"/stations/{+code}", "a/../b", false},
		{"/stations/{+code}", "a//b", false},
		{"/stations/{+code}", "a/b", true},
		{"/stations/{code}.json", "..", true},
		{"/stations/.{code}", ".", false},
		{"/stations/x{code}", "", true},
		{"/stations/{code}{code}", ".", false},
		{"/stations{?code}", "..", true},
		{"/stations?code={code}", "", true},
		{"/a//b/{code}", "x", true},
		{"/stations/{code}/", "x", true},
	} {
		tmpl, err := newTemplate(test.source)
		if err != nil {
			t.Fatal(err)
		}
		if got, ok := tmpl.expand(values{"code": text(test.given)}); ok != test.sent {
			t.Errorf("%s for %q gives %q, sent %t", test.source, test.given, got, ok)
		}
	}
	for _, source := range []string{"/{", "/{}", "/{a b}", "/{a:0}", "/{a:x}", "/{a:99999}", "/}", "/{!a}", "/a b"} {
		if _, err := newTemplate(source); err == nil {
			t.Errorf("%s is taken for a template", source)
		}
	}
	tmpl, _ := newTemplate("/x?key=SECRET&at={at}&b=2{&c}")
	if got := tmpl.shown() + " " + strings.Join(tmpl.hidden(), ","); got != "/x?key=…&at={at}&b=…{&c} key,b" {
		t.Errorf("is shown as %s", got)
	}
}
