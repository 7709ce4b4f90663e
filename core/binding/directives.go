package binding

import (
	"osprey/core/language"
	"osprey/core/schema"
)

// Directives defines the binding directives. It is a part of every project's
// schema and hidden from clients.
var Directives = schema.Text{Name: "osprey", Hidden: true, Body: `
"Records of this type live in that source and record set, identified by these fields."
directive @stored(
  "The source's name in osprey.yaml."
  in: String!
  "The table, collection or resource; the type's name under the naming rule if it is left out."
  as: String
  "The fields that identify a record; the store's own primary key if they are left out."
  key: [String!]
) on OBJECT | INTERFACE

"Where the value is, when it is not under the field's own name: a column, a path in a document; the stored spelling of an enum's value."
directive @at(path: String!) on FIELD_DEFINITION | ARGUMENT_DEFINITION | INPUT_FIELD_DEFINITION | ENUM_VALUE

"The records of the field's type whose 'there' equals this record's 'here'."
directive @related(
  here: [String!]
  there: [String!]
  "The record set of the pairs of a many-to-many relationship."
  through: OspreyThrough
  "Fields of the target, each with asc or desc."
  sort: [String!]
  "The type of which this holds, where the field's type has several that are stored apart; all others if it is left out."
  of: String
) repeatable on FIELD_DEFINITION

input OspreyThrough { set: String! here: [String!]! there: [String!]! }

"Which stored value tells the concrete type."
directive @kind(
  "On an interface or union: the field that holds it. On a field with @related: the field of this record that tells the type of the one it refers to; with is, the field of the related records that must have that value."
  by: String
  "On a type: its value for this type."
  is: String
) on OBJECT | INTERFACE | UNION | FIELD_DEFINITION

"A number made of the records of a list: how many there are, or the least, greatest, sum or average of a field's values."
directive @total(
  "The list, a field of the same type; left out on a field of a connection."
  of: String
  "The field of the list's records of which this is the least value."
  min: String
  max: String
  sum: String
  avg: String
) on FIELD_DEFINITION

"The value is computed: by an expression, or by a function. It is not stored."
directive @computed(
  "An expression in CEL over record, whose fields are those of this type, and args, the arguments."
  expr: String
  "A function, as source.name."
  by: String
  "What the function is given of each record: a selection of fields of this type."
  needs: String
) on FIELD_DEFINITION

"Reads the field's type; the arguments narrow, sort and page."
directive @read(
  "Fields of the type, each with asc or desc, when the caller does not say."
  sort: [String!]
) on FIELD_DEFINITION
`}

// text returns a string argument of a directive, or "".
func text(d *language.Directive, name string) string {
	if v, ok := d.Argument(name).(*language.StringValue); ok {
		return v.Text
	}
	return ""
}

// texts returns a list-of-strings argument of a directive; one string is a
// list of one.
func texts(v language.Value) []string {
	switch v := v.(type) {
	case *language.StringValue:
		return []string{v.Text}
	case *language.ListValue:
		var list []string
		for _, item := range v.Values {
			list = append(list, texts(item)...)
		}
		return list
	}
	return nil
}
