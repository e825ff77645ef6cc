package odata_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/odata"
)

const typed = `<?xml version="1.0"?><edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices>
<Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="N" Alias="S">
 <EnumType Name="Colour"><Member Name="Red"/><Member Name="Dark Red"/></EnumType><ComplexType Name="Place"/>
 <EntityType Name="Aid"><Key><PropertyRef Name="ID"/><PropertyRef Name="Since"/></Key><Property Name="ID" Type="Edm.Guid" Nullable="false"/><Property Name="Since" Type="Edm.Duration" Nullable="false"/>
  <Property Name="Colour" Type="S.Colour"/><Property Name="Hours" Type="Edm.Int16"/><Property Name="Reach" Type="Edm.Double"/><Property Name="Total" Type="Edm.Int64"/><Property Name="Fee" Type="Edm.Decimal" Scale="2"/>
  <Property Name="Photo" Type="Edm.Binary"/><Property Name="Open" Type="Edm.TimeOfDay"/><Property Name="Tags" Type="Collection(Edm.String)"/><Property Name="At" Type="S.Place"/><Property Name="Name" Type="Edm.String" MaxLength="5" Nullable="false"/>
  <Property Name="Made" Type="Edm.DateTimeOffset"><Annotation Term="Org.OData.Core.V1.Computed"/></Property><Property Name="Born" Type="Edm.Date"><Annotation Term="Org.OData.Core.V1.Immutable"/></Property></EntityType>
 <EntityContainer Name="C"><EntitySet Name="Aids" EntityType="N.Aid"><Annotation Term="Org.OData.Capabilities.V1.DeleteRestrictions"><Record><PropertyValue Property="Deletable" Bool="false"/></Record></Annotation></EntitySet></EntityContainer>
 <Annotations Target="S.C"><Annotation Term="Org.OData.Capabilities.V1.BatchSupported" Bool="false"/></Annotations>
</Schema></edmx:DataServices></edmx:Edmx>`

const typedKey = `{"ID":"3f2504e0-4f89-11d3-9a0c-0305e82c3301","Since":"PT5M",`

// Values of every type go to a service as its metadata says, numbers that a double would bend as texts; what it cannot have is refused before
// anything is sent.
func TestTypesOfServices(t *testing.T) {
	var got []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch body, _ := io.ReadAll(r.Body); {
		case strings.HasSuffix(r.URL.Path, "$metadata"):
			_, _ = io.WriteString(w, typed)
		case r.Method == "PATCH":
			got = append(got, r.URL.EscapedPath(), r.Header.Get("If-Match"), r.Header.Get("Content-Type"), string(body))
			w.WriteHeader(http.StatusNoContent)
		default:
			w.Header().Set("Content-Type", "application/json")
			one := typedKey + `"Colour":"Red","Hours":3,"Reach":1.5,"Total":"9","Fee":"1.50","Name":"a","@odata.etag":"W/\"it''s\""}`
			if strings.Contains(r.URL.Path, "(") {
				_, _ = io.WriteString(w, strings.Replace(one, `"Colour":"Red"`, `"Colour":"Dark Red"`, 1))
				return
			}
			_, _ = io.WriteString(w, `{"value":[`+one+`]}`)
		}
	}))
	defer server.Close()
	s, err := odata.Open(t.Context(), disk.OS{}, server.URL+"/Aids", odata.Options{Of: new(schema.Schema).Telling(), Dir: t.TempDir()})
	require.NoError(t, err)
	defer s.Close()
	key := record.NewKey("3f2504e0-4f89-11d3-9a0c-0305e82c3301", "PT5M")
	states, err := s.Current(t.Context(), []record.Key{key})
	require.NoError(t, err)
	require.Equal(t, 1, states[0].Count)
	amend := func(fields ...string) target.Step {
		st := target.Step{ID: changeset.MakeID("aids", key, changeset.Amend), Act: changeset.Amend, Key: key}
		for i := 0; i < len(fields); i += 2 {
			from, _ := states[0].Record.Get(fields[i])
			to := record.Text(fields[i+1])
			if fields[i+1] == "null" {
				to = record.Null()
			}
			st.Fields = append(st.Fields, changeset.Edit{Field: fields[i], From: from, To: to})
		}
		return st
	}
	results, err := s.Request(t.Context(), []target.Step{amend("Colour", "Dark Red", "Hours", "7.0", "Reach", "INF", "Total", "9007199254740993", "Fee", "-12345678901234567.90", "Photo", "AQID", "Open", "07:30:00", "Tags", `["x", "y"]`, "At", `{"Lat": 57.10}`, "Name", "")},
		func(json.RawMessage) error { return nil })
	require.NoError(t, err)
	require.Equal(t, target.Done, results[0].Fate, results[0].Reason)
	require.Equal(t, []string{"/Aids(ID=3f2504e0-4f89-11d3-9a0c-0305e82c3301,Since=duration'PT5M')", `W/"it''s"`, "application/json;IEEE754Compatible=true",
		`{"Colour":"Dark Red","Hours":7,"Reach":"INF","Total":"9007199254740993","Fee":"-12345678901234567.90","Photo":"AQID","Open":"07:30:00","Tags":["x", "y"],"At":{"Lat": 57.10},"Name":""}`}, got)
	require.Equal(t, []string{"Hours", "Reach", "Total", "Fee", "Photo", "Open", "Tags", "At", "Name"}, results[0].Left, "what it did not take, although it said so")

	for _, x := range []struct{ field, value, why string }{
		{"Hours", "seven", `Hours is Edm.Int16, and "seven" is none`},
		{"Hours", "7.5", `Hours is Edm.Int16, and "7.5" is none`},
		{"Fee", "1,50", `Fee is Edm.Decimal(scale 2), and "1,50" is none`},
		{"Photo", "a picture", `Photo is Edm.Binary, and "a picture" is none`},
		{"Open", "half past", `Open is Edm.TimeOfDay, and "half past" is none`},
		{"Tags", "x, y", `Tags is Collection(Edm.String), and is to be JSON, which "x, y" is not`},
		{"Name", "longer", `Name takes 5 characters, and "longer" has 6`},
		{"Name", "null", `Name cannot be empty`},
		{"Made", "2026-01-01T00:00:00Z", "Made is written by the service alone"},
		{"Born", "2026-01-01", "Born can be written when a record is added, and not later"},
		{"ID", "x", "ID belongs to the key, which a service cannot change"},
	} {
		why, err := s.Check(t.Context(), []target.Step{amend(x.field, x.value)})
		require.NoError(t, err)
		require.Equal(t, []string{x.why}, why, x.field)
	}
	why, err := s.Check(t.Context(), []target.Step{{Act: changeset.Delete, Key: key}, {Act: changeset.Amend, Key: record.NewKey("no guid", "PT5M")}, {Act: changeset.Amend, Key: key, Linked: "a"}, {Act: changeset.Amend, Key: key, Linked: "a"}})
	require.NoError(t, err)
	linked := "it is linked with others, and the service takes no batches in which they are written together or not at all"
	require.Equal(t, []string{"the service's metadata says that its records are not deleted", "its key is none that the service can have", linked, linked}, why)
	other, err := odata.Open(t.Context(), disk.OS{}, server.URL+"/Aids", odata.Options{Key: []string{"Name"}})
	require.NoError(t, err)
	defer other.Close()
	require.ErrorContains(t, other.Writable(t.Context()), "its records are written by their own key, ID, Since; compare by it")
}

// Whatever leads to another place ends the run, and what was sent until then may have been done: a redirect that drops the change,
// one to another host, and an answer that will be elsewhere.
func TestNothingIsWrittenElsewhere(t *testing.T) {
	asked := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer other.Close()
	for how, says := range map[string]string{"see other": "answers a PATCH with a redirect that drops it", "redirect": "sends us to " + other.URL, "job": "gives a link to " + other.URL} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case strings.HasSuffix(r.URL.Path, "$metadata"):
				_, _ = io.WriteString(w, strings.Replace(typed, `Capabilities.V1.BatchSupported" Bool="false"`, `Capabilities.V1.AsynchronousRequestsSupported" Bool="true"`, 1))
			case r.Method == "PATCH":
				w.Header().Set("Location", map[string]string{"see other": "/Aids", "redirect": other.URL + "/Aids", "job": other.URL + "/jobs/1"}[how])
				w.WriteHeader(map[string]int{"see other": http.StatusFound, "redirect": http.StatusTemporaryRedirect, "job": http.StatusAccepted}[how])
			default:
				w.Header().Set("Content-Type", "application/json")
				_, _ = fmt.Fprint(w, `{"value":[`+typedKey+`"Colour":"Red","@odata.etag":"1"}]}`)
			}
		}))
		s, err := odata.Open(t.Context(), disk.OS{}, server.URL+"/Aids", odata.Options{})
		require.NoError(t, err)
		key := record.NewKey("3f2504e0-4f89-11d3-9a0c-0305e82c3301", "PT5M")
		_, err = s.Current(t.Context(), []record.Key{key})
		require.NoError(t, err)
		results, err := s.Request(t.Context(), []target.Step{{ID: changeset.MakeID("aids", key, changeset.Amend), Act: changeset.Amend, Key: key, Fields: []changeset.Edit{{Field: "Colour", From: record.Text("Red"), To: record.Text("Dark Red")}}}},
			func(json.RawMessage) error { return nil })
		require.ErrorContains(t, err, says)
		require.Equal(t, target.Asked, results[0].Fate, how)
		require.NoError(t, s.Close())
		server.Close()
	}
	require.Zero(t, asked)
}
