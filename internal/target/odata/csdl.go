package odata

import (
	"context"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"paletwin/internal/odata"
)

// entityType is what the metadata says of a set's records.
type entityType struct {
	key        []string
	properties []property
	at         map[string]int // places of properties, by their names
	can        abilities
}

// abilities are what the metadata says that the service can, and cannot.
type abilities struct {
	noInserts, noUpdates, noDeletes bool // in the set
	async                           bool // it answers later where it is asked to
	repeatable                      bool // a request that comes again is answered as before, and not done again
	noBatches                       bool
	noJSON                          bool // batches in multipart alone
}

// property is a property of the records.
type property struct {
	Name, Type  string
	Nullable    bool
	MaxLength   string
	Precision   string
	Scale       string
	Collection  bool
	Structured  bool // a complex value, or a list: its text is JSON
	Enumeration bool
	Computed    bool // the service writes it
	Immutable   bool // written on creation alone
}

// words is the property's type as a person would write it.
func (p *property) words() string {
	t := p.Type
	switch {
	case p.MaxLength != "":
		t += "(" + p.MaxLength + ")"
	case p.Precision != "" && p.Scale != "":
		t += "(" + p.Precision + "," + p.Scale + ")"
	case p.Scale != "":
		t += "(scale " + p.Scale + ")"
	}
	if p.Collection {
		t = "Collection(" + t + ")"
	}
	if !p.Nullable {
		t += " not null"
	}
	return t
}

// property is the place of a property; -1 is none.
func (t *entityType) property(name string) int {
	if i, ok := t.at[name]; ok {
		return i
	}
	return -1
}

// The metadata's XML (CSDL 4.01), as far as it is needed.
type (
	xmlMetadata struct {
		Schemas []xmlSchema `xml:"DataServices>Schema"`
	}
	xmlSchema struct {
		Namespace string         `xml:"Namespace,attr"`
		Alias     string         `xml:"Alias,attr"`
		Entities  []xmlEntity    `xml:"EntityType"`
		Enums     []xmlNamed     `xml:"EnumType"`
		Defined   []xmlDefined   `xml:"TypeDefinition"`
		Container xmlContainer   `xml:"EntityContainer"`
		Annotated []xmlAnnotated `xml:"Annotations"`
	}
	xmlContainer struct {
		Name        string          `xml:"Name,attr"`
		Sets        []xmlSet        `xml:"EntitySet"`
		Annotations []xmlAnnotation `xml:"Annotation"`
	}
	xmlNamed struct {
		Name string `xml:"Name,attr"`
	}
	xmlDefined struct {
		Name string `xml:"Name,attr"`
		Type string `xml:"UnderlyingType,attr"`
	}
	xmlSet struct {
		Name        string          `xml:"Name,attr"`
		Type        string          `xml:"EntityType,attr"`
		Annotations []xmlAnnotation `xml:"Annotation"`
	}
	xmlEntity struct {
		Name string `xml:"Name,attr"`
		Base string `xml:"BaseType,attr"`
		Key  []struct {
			Name string `xml:"Name,attr"`
		} `xml:"Key>PropertyRef"`
		Properties []xmlProperty `xml:"Property"`
	}
	xmlProperty struct {
		Name        string          `xml:"Name,attr"`
		Type        string          `xml:"Type,attr"`
		Nullable    string          `xml:"Nullable,attr"`
		MaxLength   string          `xml:"MaxLength,attr"`
		Precision   string          `xml:"Precision,attr"`
		Scale       string          `xml:"Scale,attr"`
		Annotations []xmlAnnotation `xml:"Annotation"`
	}
	xmlAnnotation struct {
		Term string `xml:"Term,attr"`
		Bool string `xml:"Bool,attr"`
		Enum string `xml:"EnumMember,attr"`
		// Of a record, its properties.
		Properties []struct {
			Name    string   `xml:"Property,attr"`
			Bool    string   `xml:"Bool,attr"`
			Strings []string `xml:"Collection>String"`
		} `xml:"Record>PropertyValue"`
	}
	xmlAnnotated struct {
		Target      string          `xml:"Target,attr"`
		Annotations []xmlAnnotation `xml:"Annotation"`
	}
)

// describe reads the service's metadata.
func (c *client) describe(ctx context.Context, set string) (*entityType, error) {
	u, err := c.resolve("$metadata", c.root)
	if err != nil {
		return nil, err
	}
	r, err := c.get(ctx, u, odata.Header{Name: "Accept", Value: "application/xml"})
	if err != nil {
		return nil, err
	}
	var m xmlMetadata
	if err := xml.Unmarshal(r.body, &m); err != nil || len(m.Schemas) == 0 {
		return nil, &Error{Name: c.name, Code: Foreign, Text: fmt.Sprintf("%s is no metadata of an OData service; is the part before the set's name the service's root?", u)}
	}
	t, err := m.entity(set)
	if err != nil {
		return nil, &Error{Name: c.name, Code: NotThere, Text: err.Error()}
	}
	if v := r.header.Get("OData-Version"); v != "" && v != "4.01" { // which knows them in multipart alone
		t.can.noJSON = true
	}
	return t, nil
}

// annotations are those of something that stand elsewhere.
func (m *xmlMetadata) annotations(of string) (all []xmlAnnotation) {
	for _, s := range m.Schemas {
		for _, a := range s.Annotated {
			if m.full(a.Target) == of {
				all = append(all, a.Annotations...)
			}
		}
	}
	return all
}

// abilities are what annotations of a container and a set say (the Capabilities and Repeatability vocabularies).
func (m *xmlMetadata) abilities(s *xmlSchema, set *xmlSet) (can abilities) {
	container := s.Namespace + "." + s.Container.Name
	for _, a := range slices.Concat(s.Container.Annotations, m.annotations(container), set.Annotations, m.annotations(container+"/"+set.Name)) {
		term := a.Term[strings.LastIndexByte(a.Term, '.')+1:]
		property := func(name string) string {
			for _, p := range a.Properties {
				if p.Name == name {
					return p.Bool
				}
			}
			return ""
		}
		switch term {
		case "InsertRestrictions":
			can.noInserts = property("Insertable") == "false"
		case "UpdateRestrictions":
			can.noUpdates = property("Updatable") == "false"
		case "DeleteRestrictions":
			can.noDeletes = property("Deletable") == "false"
		case "AsynchronousRequestsSupported":
			can.async = a.Bool != "false"
		case "BatchSupported":
			can.noBatches = a.Bool == "false"
		case "BatchSupport":
			can.noBatches = property("Supported") == "false"
			for _, p := range a.Properties {
				if p.Name == "SupportedFormats" && len(p.Strings) > 0 {
					can.noJSON = !slices.Contains(p.Strings, "application/json")
				}
			}
		case "Supported":
			can.repeatable = can.repeatable || strings.Contains(a.Term, "Repeatability") && a.Bool != "false"
		}
	}
	return can
}

// full is a qualified name with the namespace in the place of its alias.
func (m *xmlMetadata) full(name string) string {
	for _, s := range m.Schemas {
		if rest, ok := strings.CutPrefix(name, s.Alias+"."); ok && s.Alias != "" && !strings.Contains(rest, ".") {
			return s.Namespace + "." + rest
		}
	}
	return name
}

// entity finds the type of a set's records.
func (m *xmlMetadata) entity(set string) (*entityType, error) {
	var names []string
	for _, s := range m.Schemas {
		for _, x := range s.Container.Sets {
			names = append(names, x.Name)
			if x.Name == set {
				t := &entityType{can: m.abilities(&s, &x), at: map[string]int{}}
				err := m.collect(t, m.full(x.Type), 0)
				for i, p := range t.properties {
					t.at[p.Name] = i
				}
				return t, err
			}
		}
	}
	slices.Sort(names)
	if len(names) > 12 {
		names = append(names[:12], "…")
	}
	return nil, fmt.Errorf("the service has no set %s; it has %s", set, strings.Join(names, ", "))
}

// collect adds what a type, and those that it is based on, say of properties and key.
func (m *xmlMetadata) collect(t *entityType, name string, depth int) error {
	for _, s := range m.Schemas {
		for _, e := range s.Entities {
			if s.Namespace+"."+e.Name != name {
				continue
			}
			if e.Base != "" && depth < 20 {
				if err := m.collect(t, m.full(e.Base), depth+1); err != nil {
					return err
				}
			}
			for _, k := range e.Key {
				t.key = append(t.key, k.Name)
			}
			for _, p := range e.Properties {
				if q := m.property(p, name); q.Type != "Edm.Stream" {
					t.properties = append(t.properties, q)
				}
			}
			return nil
		}
	}
	return fmt.Errorf("the service's metadata lacks the type %s", name)
}

func (m *xmlMetadata) property(p xmlProperty, of string) property {
	q := property{Name: p.Name, Type: p.Type, Nullable: p.Nullable != "false", MaxLength: p.MaxLength, Precision: p.Precision, Scale: p.Scale}
	if inner, ok := strings.CutPrefix(q.Type, "Collection("); ok {
		q.Type, q.Collection, q.Structured = strings.TrimSuffix(inner, ")"), true, true
	}
	q.Type = m.full(q.Type)
	for _, s := range m.Schemas {
		for _, d := range s.Defined {
			if s.Namespace+"."+d.Name == q.Type {
				q.Type = d.Type
			}
		}
		for _, e := range s.Enums {
			q.Enumeration = q.Enumeration || s.Namespace+"."+e.Name == q.Type
		}
	}
	p.Annotations = append(p.Annotations, m.annotations(of+"/"+p.Name)...)
	q.Structured = q.Structured || !q.Enumeration && !strings.HasPrefix(q.Type, "Edm.") || strings.HasPrefix(q.Type, "Edm.Geo") || strings.HasPrefix(q.Type, "Edm.Untyped")
	for _, a := range p.Annotations {
		term := a.Term[strings.LastIndexByte(a.Term, '.')+1:]
		switch {
		case term == "Computed" && a.Bool != "false", term == "Permissions" && strings.HasSuffix(a.Enum, "/Read"):
			q.Computed = true
		case term == "Immutable" && a.Bool != "false":
			q.Immutable = true
		}
	}
	return q
}
