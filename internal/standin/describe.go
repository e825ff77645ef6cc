package standin

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"net/http"
	"strconv"
	"strings"
	"sync"

	"paletwin/core/schema"
	"paletwin/internal/odata"
)

// metadata is the service's description of itself, made once: it does not change.
type metadata struct {
	once sync.Once
	xml  []byte
	json []byte
}

// describe answers at the service's root, and its $metadata.
func (s *Service) describe(c *call, p *place) (*answer, error) {
	if p.kind == atRoot {
		if err := c.options.only("the service's root"); err != nil {
			return nil, err
		}
		if !c.accepts("application/json") {
			return nil, refuse(http.StatusNotAcceptable, "NotAcceptable", "there is application/json, and not %s", c.header.Get("Accept"))
		}
		return c.json(http.StatusOK, s.document(c)), nil
	}
	if !c.accepts("application/xml", "application/json") {
		return nil, refuse(http.StatusNotAcceptable, "NotAcceptable", "there are application/xml and application/json, and not %s", c.header.Get("Accept"))
	}
	s.meta.once.Do(func() {
		w := *s.world
		w.cannot = s.cannot()
		s.meta.xml, s.meta.json = w.csdlXML(), w.csdlJSON()
	})
	a := newAnswer(http.StatusOK)
	if c.wants("application/xml", "application/json") == "application/json" {
		a.set("Content-Type", "application/json")
		a.body = s.meta.json
		return a, nil
	}
	a.set("Content-Type", "application/xml")
	a.body = s.meta.xml
	if c.version == "4.0" { // which knows no higher, and all that is in it
		a.body = bytes.Replace(a.body, []byte(`Version="4.01"`), []byte(`Version="4.0"`), 1)
	}
	return a, nil
}

// document is the service document.
func (s *Service) document(c *call) []byte {
	b := []byte{'{'}
	if c.form.metadata != "none" {
		b = appendMember(b, c.control("context"), s.metadataURL(c))
		b = append(b, ',')
	}
	b = append(b, `"value":[`...)
	for i, set := range s.world.Sets {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, '{')
		b = appendMember(b, "name", set.Name)
		if set.Title != "" {
			b = append(b, ',')
			b = appendMember(b, "title", set.Title)
		}
		b = append(b, ',')
		b = appendMember(b, "kind", "EntitySet")
		b = append(b, ',')
		b = appendMember(b, "url", set.Name)
		b = append(b, '}')
	}
	return append(b, "]}"...)
}

// vocabularies are those of OASIS whose terms stand in the metadata.
var vocabularies = []struct{ alias, namespace string }{
	{"Core", "Org.OData.Core.V1"}, {"Capabilities", "Org.OData.Capabilities.V1"}, {"Repeatability", "Org.OData.Repeatability.V1"},
}

const (
	vocabularyRoot = "https://oasis-tcs.github.io/odata-vocabularies/vocabularies/"
	edmx           = "http://docs.oasis-open.org/odata/ns/edmx"
	edm            = "http://docs.oasis-open.org/odata/ns/edm"
)

// annotation is a term with its value: true, a text, a member of an enumeration, or paths.
type annotation struct {
	XMLName xml.Name `xml:"Annotation"`
	Term    string   `xml:"Term,attr"`
	Bool    string   `xml:"Bool,attr,omitempty"`
	String  string   `xml:"String,attr,omitempty"`
	Enum    string   `xml:"EnumMember,attr,omitempty"`
	Paths   *paths   `xml:"Collection,omitempty"`
}

type paths struct {
	Path []string `xml:"PropertyPath"`
}

func (a annotation) json() any {
	switch {
	case a.Paths != nil:
		return a.Paths.Path
	case a.Enum != "":
		return a.Enum[strings.LastIndexByte(a.Enum, '/')+1:]
	case a.String != "":
		return a.String
	}
	return a.Bool == "true"
}

type xmlProperty struct {
	XMLName     xml.Name `xml:"Property"`
	Name        string   `xml:"Name,attr"`
	Type        string   `xml:"Type,attr"`
	Nullable    string   `xml:"Nullable,attr,omitempty"`
	MaxLength   string   `xml:"MaxLength,attr,omitempty"`
	Precision   string   `xml:"Precision,attr,omitempty"`
	Scale       string   `xml:"Scale,attr,omitempty"`
	Annotations []annotation
}

type xmlNav struct {
	XMLName    xml.Name `xml:"NavigationProperty"`
	Name       string   `xml:"Name,attr"`
	Type       string   `xml:"Type,attr"`
	Nullable   string   `xml:"Nullable,attr,omitempty"`
	Constraint struct {
		Property   string `xml:"Property,attr"`
		Referenced string `xml:"ReferencedProperty,attr"`
	} `xml:"ReferentialConstraint"`
}

type xmlType struct {
	XMLName xml.Name `xml:"EntityType"`
	Name    string   `xml:"Name,attr"`
	Key     struct {
		Refs []xmlKey
	} `xml:"Key"`
	Properties []xmlProperty
	Navs       []xmlNav
}

type xmlKey struct {
	XMLName xml.Name `xml:"PropertyRef"`
	Name    string   `xml:"Name,attr"`
}

type xmlSet struct {
	XMLName     xml.Name `xml:"EntitySet"`
	Name        string   `xml:"Name,attr"`
	Type        string   `xml:"EntityType,attr"`
	Bindings    []xmlBinding
	Annotations []annotation
}

type xmlBinding struct {
	XMLName xml.Name `xml:"NavigationPropertyBinding"`
	Path    string   `xml:"Path,attr"`
	Target  string   `xml:"Target,attr"`
}

type xmlReference struct {
	XMLName xml.Name `xml:"edmx:Reference"`
	URI     string   `xml:"Uri,attr"`
	Include struct {
		Namespace string `xml:"Namespace,attr"`
		Alias     string `xml:"Alias,attr"`
	} `xml:"edmx:Include"`
}

type xmlDocument struct {
	XMLName    xml.Name `xml:"edmx:Edmx"`
	NS         string   `xml:"xmlns:edmx,attr"`
	Version    string   `xml:"Version,attr"`
	References []xmlReference
	Schema     struct {
		NS        string `xml:"xmlns,attr"`
		Namespace string `xml:"Namespace,attr"`
		Types     []xmlType
		Container struct {
			Name        string `xml:"Name,attr"`
			Sets        []xmlSet
			Annotations []annotation
		} `xml:"EntityContainer"`
	} `xml:"edmx:DataServices>Schema"`
}

// property describes a field.
func (f *Field) property(key, assigned bool) xmlProperty {
	p := xmlProperty{Name: f.Name, Type: f.Kind.String()}
	if f.Required || key {
		p.Nullable = "false"
	}
	if f.Length > 0 && f.Kind == odata.String {
		p.MaxLength = itoa(f.Length)
	}
	if f.Kind == odata.Decimal {
		p.Scale = "variable"
		if f.Scale >= 0 {
			p.Scale = itoa(f.Scale)
		}
	}
	if f.Kind == odata.DateTimeOffset {
		p.Precision = "9"
	}
	if f.Heading != f.Name {
		p.Annotations = append(p.Annotations, annotation{Term: "Core.Description", String: f.Heading})
	}
	switch {
	case f.Access == schema.System || key && assigned:
		p.Annotations = append(p.Annotations, annotation{Term: "Core.Computed", Bool: "true"})
	case f.Access == schema.ReadOnly:
		p.Annotations = append(p.Annotations, annotation{Term: "Core.Permissions", Enum: "Core.Permission/Read"})
	case f.Access == schema.OnCreation:
		p.Annotations = append(p.Annotations, annotation{Term: "Core.Immutable", Bool: "true"})
	}
	return p
}

// document describes the world.
func (w *World) document() *xmlDocument {
	d := &xmlDocument{NS: edmx, Version: "4.01"}
	for _, v := range vocabularies {
		r := xmlReference{URI: vocabularyRoot + v.namespace + ".xml"}
		r.Include.Namespace, r.Include.Alias = v.namespace, v.alias
		d.References = append(d.References, r)
	}
	d.Schema.NS, d.Schema.Namespace = edm, namespace
	c := &d.Schema.Container
	c.Name = "Container"
	can := func(what string) string { return strconv.FormatBool(!w.cannot[what]) }
	c.Annotations = []annotation{{Term: "Capabilities.BatchSupported", Bool: can("batches")}, {Term: "Capabilities.AsynchronousRequestsSupported", Bool: can("jobs")}, {Term: "Repeatability.Supported", Bool: can("repeats")},
		{Term: "Capabilities.ConformanceLevel", Enum: "Capabilities.ConformanceLevelType/Intermediate"}}
	for _, s := range w.Sets {
		t := xmlType{Name: s.Name}
		for _, k := range s.keyNames {
			t.Key.Refs = append(t.Key.Refs, xmlKey{Name: k})
		}
		for i, f := range s.Fields {
			t.Properties = append(t.Properties, f.property(s.isKey(i), s.assigned && len(s.Key) > 0 && i == s.Key[0]))
		}
		set := xmlSet{Name: s.Name, Type: namespace + "." + s.Name}
		for _, n := range s.Navs {
			x := xmlNav{Name: n.Name, Type: namespace + "." + n.Target.Name}
			if s.Fields[n.Field].Required || s.isKey(n.Field) {
				x.Nullable = "false"
			}
			x.Constraint.Property, x.Constraint.Referenced = s.Fields[n.Field].Name, n.Target.Fields[n.By].Name
			t.Navs = append(t.Navs, x)
			set.Bindings = append(set.Bindings, xmlBinding{Path: n.Name, Target: n.Target.Name})
		}
		if s.Title != "" {
			set.Annotations = append(set.Annotations, annotation{Term: "Core.Description", String: s.Title})
		}
		set.Annotations = append(set.Annotations, annotation{Term: "Core.OptimisticConcurrency", Paths: &paths{s.fieldNames()}})
		d.Schema.Types, c.Sets = append(d.Schema.Types, t), append(c.Sets, set)
	}
	return d
}

// cannot is what the service does not do, by its moods.
func (s *Service) cannot() map[string]bool {
	return map[string]bool{"batches": s.hasMood("no-batches"), "jobs": s.hasMood("no-jobs"), "repeats": s.hasMood("no-repeats")}
}

func (w *World) csdlXML() []byte {
	b, err := xml.MarshalIndent(w.document(), "", "  ")
	if err != nil {
		return []byte(err.Error()) // there is nothing that could not be written
	}
	return append([]byte(xml.Header), b...)
}

// csdlJSON is the same in JSON (CSDL JSON 4.01).
func (w *World) csdlJSON() []byte {
	d := w.document()
	references := map[string]any{}
	for _, r := range d.References {
		references[strings.TrimSuffix(r.URI, ".xml")+".json"] = map[string]any{"$Include": []any{map[string]string{"$Namespace": r.Include.Namespace, "$Alias": r.Include.Alias}}}
	}
	types := map[string]any{}
	container := map[string]any{"$Kind": "EntityContainer"}
	annotate(container, d.Schema.Container.Annotations)
	for _, t := range d.Schema.Types {
		types[t.Name] = t.json()
	}
	for _, s := range d.Schema.Container.Sets {
		set := map[string]any{"$Collection": true, "$Type": s.Type}
		bindings := map[string]string{}
		for _, b := range s.Bindings {
			bindings[b.Path] = b.Target
		}
		if len(bindings) > 0 {
			set["$NavigationPropertyBinding"] = bindings
		}
		annotate(set, s.Annotations)
		container[s.Name] = set
	}
	types["Container"] = container
	b, err := json.MarshalIndent(map[string]any{"$Version": "4.01", "$EntityContainer": namespace + ".Container", "$Reference": references, namespace: types}, "", "  ")
	if err != nil {
		return []byte(err.Error()) // there is nothing that could not be written
	}
	return b
}

func annotate(to map[string]any, all []annotation) {
	for _, a := range all {
		to["@"+a.Term] = a.json()
	}
}

func (t *xmlType) json() map[string]any {
	out := map[string]any{"$Kind": "EntityType"}
	keys := []string{}
	for _, k := range t.Key.Refs {
		keys = append(keys, k.Name)
	}
	out["$Key"] = keys
	for _, p := range t.Properties {
		x := map[string]any{}
		if p.Type != "Edm.String" {
			x["$Type"] = p.Type
		}
		if p.Nullable == "" {
			x["$Nullable"] = true
		}
		if p.MaxLength != "" {
			x["$MaxLength"] = json.Number(p.MaxLength)
		}
		if p.Precision != "" {
			x["$Precision"] = json.Number(p.Precision)
		}
		switch p.Scale {
		case "":
		case "variable":
			x["$Scale"] = p.Scale
		default:
			x["$Scale"] = json.Number(p.Scale)
		}
		annotate(x, p.Annotations)
		out[p.Name] = x
	}
	for _, n := range t.Navs {
		x := map[string]any{"$Kind": "NavigationProperty", "$Type": n.Type, "$ReferentialConstraint": map[string]string{n.Constraint.Property: n.Constraint.Referenced}}
		if n.Nullable == "" {
			x["$Nullable"] = true
		}
		out[n.Name] = x
	}
	return out
}
