package binding

import (
	"osprey/core/language"
	"osprey/core/schema"
)

// Directives defines the binding directives. It is a part of every project's
// schema and hidden from clients.
//
// What stands behind "Default:" in the description of an argument is what holds where
// it is left out.
var Directives = schema.Text{Name: "osprey", Hidden: true, Body: `
"Records of this type are stored in that source and record set, identified by these fields. The records of an interface are those of the types that implement it, told apart by @kind."
directive @stored(
  "The source's name in osprey.yaml."
  in: String!
  "The table, view, collection or resource. Default: the type's name under the source's naming rule."
  as: String
  "The stored fields that identify a record: its primary key. Default: the primary key that the store tells."
  key: [String!]
) on OBJECT | INTERFACE

"Where a value is, when it is not under the field's own name."
directive @at(
  "On a field: the column, or a path with dots in a document or a column of JSON. On an argument or a field of a filter: the stored field that it is compared with. On a value of an enum: the stored spelling."
  path: String!
) on FIELD_DEFINITION | ARGUMENT_DEFINITION | INPUT_FIELD_DEFINITION | ENUM_VALUE

"A relationship: the records of the field's type whose 'there' equals this record's 'here', a foreign key in either direction. The type's own @stored decides which store is asked."
directive @related(
  "Stored fields of this record. Default: for one record, the field's name and the key of its type, as in craft_imo; for a list, this type's key."
  here: [String!]
  "Stored fields of the other record set. Default: for one record, its key; for a list, this type's name and key, as in craft_imo."
  there: [String!]
  "The join table of a many-to-many relationship, of the same source: its name, its fields that equal 'here', and its fields that equal 'there'."
  through: OspreyThrough
  "The order of the list: fields of the other type, each with asc or desc. Default: the key."
  sort: [String!]
  "The type of which this holds, where the field's type has several that are stored apart. Default: all that no other @related of the field names."
  of: String
) repeatable on FIELD_DEFINITION

input OspreyThrough { set: String! here: [String!]! there: [String!]! }

"The discriminator: which stored value tells the concrete type of a record."
directive @kind(
  "On an interface or union: the stored field that holds it. On a field with @related: the field of this record that tells the type of the one that it refers to; with 'is', the field of the related records that must have that value."
  by: String
  "On a type: its value. On a field with @related: the value that the related records must have. Default: the type's name under the naming rule."
  is: String
) on OBJECT | INTERFACE | UNION | FIELD_DEFINITION

"An aggregate of the records of a list: how many there are, or, with one of min, max, sum and avg, one value made of a field's. The list's filters hold for it, its bounds do not."
directive @total(
  "The list, a field of the same type. Default: on a field of a connection, its own list."
  of: String
  "The field of the list's records of which this is the least value."
  min: String
  "The field of which this is the greatest value."
  max: String
  "The field of which this is the sum."
  sum: String
  "The field of which this is the average."
  avg: String
) on FIELD_DEFINITION

"The value is computed and stored nowhere: by an expression, or by a function."
directive @computed(
  "An expression in CEL over record, whose fields are those of this type, and args, the arguments."
  expr: String
  "A function, as source.name: of a source of the kind functions, or of a Go program."
  by: String
  "What the function is given of each record: a selection of fields of this type, across stores, too."
  needs: String
) on FIELD_DEFINITION

"The field adds records of its type, and answers them as they are then. Its arguments are fields of the type, or one input object, or a list of them. For fields of the mutation type."
directive @add(
  "Values that the caller does not choose, each as field: expression, in CEL over args, the arguments, and now; uuid() and objectId() make keys."
  set: [String!]
  "Fields of a unique key: a record that has the same is changed instead of adding one."
  replaces: [String!]
  "A list of nested records, to which the input object is added; the other arguments find the record. Of document stores."
  into: String
  "The type of the records, where the field answers something else."
  of: String
) on FIELD_DEFINITION

"The field changes one record of its type, found by the arguments that are its key or another unique key, or all that an argument called filter finds, and answers them as they are then; null if there is none. The other arguments, or those of one input object, are what changes: what is absent is left alone, and null clears. For fields of the mutation type."
directive @change(
  "Values that the caller does not choose, each as field: expression, as of @add, and over record, the record as it was."
  set: [String!]
  "Arguments whose values the record must still have, null for none: if it has others, nothing is changed, and the error is CONFLICT."
  expect: [String!]
  "What is added to what is stored, in the store: of several callers at once, each counts. Each is an argument, or field: expression."
  adjust: [String!]
  "A list of nested records, of which those change that have what the arguments say; the key finds the record, and an input object says what changes. Of document stores."
  in: String
  "The type of the records, where the field answers something else."
  of: String
) on FIELD_DEFINITION

"The field removes one record of its type, found as @change finds it, or all that an argument called filter finds, and answers them as they were; null if there is none. For fields of the mutation type."
directive @remove(
  "Arguments whose values the record must still have, null for none: if it has others, nothing is removed, and the error is CONFLICT."
  expect: [String!]
  "A list of nested records, from which those go that have what the arguments say; the key finds the record, which stays. Of document stores."
  from: String
  "The type of the records, where the field answers something else."
  of: String
) on FIELD_DEFINITION

"The field pairs two records over the join table of a relationship, and answers the record that has it. Its arguments are fields of the join table: the two keys, and what else a pair has. A pair that is there gets what is given, so that it can be done twice. For fields of the mutation type."
directive @pair(
  "The relationship, a field of the field's type with @related(through: …)."
  field: String!
  "Values that the caller does not choose, each as field: expression, as of @add."
  set: [String!]
) on FIELD_DEFINITION

"The field parts two records that are paired over a join table, and answers the record that has the relationship. A pair that is not there is no error. For fields of the mutation type."
directive @unpair(
  "The relationship, a field of the field's type with @related(through: …)."
  field: String!
) on FIELD_DEFINITION

"A function of the Go program takes part in the transaction of a field that writes: it is called behind what is written, and before what is removed, and is given the transaction. If it returns an error, nothing is done. For fields with @add, @change, @remove, @pair or @unpair, of relational databases."
directive @within(
  "The function, as source.name."
  by: String!
  "What the function is given of each record: a selection of fields of its type, of the same source."
  needs: String
) on FIELD_DEFINITION

"For whom it is there: for callers with one of the roles, of whom the expression is true, if there is one. With several, for those of whom one holds. For others, a type, an argument, a field and what else has the directive does not exist; of a type, the records of which it is not true do not, and of a field, the value is DENIED."
directive @for(
  "Callers must have one of these roles. Default: all callers."
  roles: [String!]
  "An expression in CEL that must be true: on a type that is stored over caller and record, on a field over args, too, and on an argument or an input field over caller and args, which is all that is given beside it. Null equals nothing."
  when: String
) repeatable on OBJECT | INTERFACE | UNION | ENUM | INPUT_OBJECT | FIELD_DEFINITION | ARGUMENT_DEFINITION | INPUT_FIELD_DEFINITION | ENUM_VALUE

"The field tells when a record is added, changed or removed, and answers it as it is then: the record, or a type of the project's own with what happened. Its arguments narrow, as those of @read do. For fields of the subscription type."
directive @watch(
  "The type of the records, where the field's own type does not tell."
  type: String
  "What is told: ADDED, CHANGED, REMOVED. Default: all of these, or the first two where the record itself is answered."
  on: [String!]
  "How often the records are looked at, as 10s, where the store does not tell what changes in it. Default: only what this service writes is told."
  every: String
  "With every: a stored field whose value grows with each change, so that only what is beyond the greatest is looked at. Removals are then not seen. Default: all records are looked at."
  grows: String
) on FIELD_DEFINITION

"The field reads its type's records; its arguments narrow, sort and page them. For fields of the query type and of types that group them."
directive @read(
  "The order where the caller asks for none: fields of the type, each with asc or desc. Default: the key."
  sort: [String!]
  "What the records have anyhow, each as field: expression, in CEL over caller. Where that is null, there are none."
  where: [String!]
) on FIELD_DEFINITION
`}

// Executable defines the directives that operations may have. It is a part of a schema that
// has a mutation type.
var Executable = schema.Text{Name: "osprey operations", Body: `
"All root fields of the mutation are one transaction of the database that they write to: all of them are done, or none."
directive @transaction on MUTATION
`}

// text returns a string argument of a directive, or "".
func text(d *language.Directive, name string) string {
	if v, ok := d.Argument(name).(*language.StringValue); ok {
		return v.Text
	}
	return ""
}
