package ovf_test

import (
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

// gauges is a collection of two machines, one of which wants to be told what the package has properties for.
const gauges = `<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
 <References/>
 <DeploymentOptionSection><Info/>
  <Configuration ovf:id="small" ovf:default="true"><Label>Small</Label><Description/></Configuration>
  <Configuration ovf:id="large"><Label>Large</Label><Description/></Configuration>
 </DeploymentOptionSection>
 <VirtualSystemCollection ovf:id="gauges"><Info/>
  <ProductSection ovf:class="site"><Info/>
   <Property ovf:key="name" ovf:type="string" ovf:value="Wharf" ovf:userConfigurable="true" ovf:qualifiers="MaxLen(8)"/>
   <Property ovf:key="zone" ovf:type="string" ovf:value="UTC"/>
  </ProductSection>
  <VirtualSystem ovf:id="tide"><Info/>
   <ProductSection ovf:class="site"><Info/>
    <Property ovf:key="zone" ovf:type="string" ovf:value="Etc/GMT"/>
   </ProductSection>
   <ProductSection ovf:class="gauge" ovf:instance="1"><Info/>
    <Property ovf:key="port" ovf:type="uint16" ovf:value="80" ovf:userConfigurable="true"><Label>Port</Label>
     <Value ovf:value="8080" ovf:configuration="large"/></Property>
    <Property ovf:key="offset" ovf:type="sint8" ovf:userConfigurable="true"/>
    <Property ovf:key="metric" ovf:type="boolean" ovf:value="true" ovf:userConfigurable="true"/>
    <Property ovf:key="scale" ovf:type="real32" ovf:value="1" ovf:userConfigurable="true"/>
    <Property ovf:key="unit" ovf:type="string" ovf:value="m" ovf:userConfigurable="true"
      ovf:qualifiers='ValueMap{"m", "ft"}'/>
    <Property ovf:key="key" ovf:type="string" ovf:password="true" ovf:userConfigurable="true"
      ovf:qualifiers="MinLen(4)"/>
   </ProductSection>
   <VirtualHardwareSection ovf:transport="iso example.guest"><Info/>
    <Item><rasd:InstanceID>1</rasd:InstanceID><rasd:ResourceType>3</rasd:ResourceType>
     <rasd:VirtualQuantity>1</rasd:VirtualQuantity></Item></VirtualHardwareSection>
  </VirtualSystem>
  <VirtualSystem ovf:id="rain"><Info/><VirtualHardwareSection><Info/></VirtualHardwareSection></VirtualSystem>
 </VirtualSystemCollection>
</Envelope>`

// told reads an environment's document as its guest would.
func told(t *testing.T, e *ovf.Environment) (id string, values map[string]string) {
	t.Helper()
	text, err := e.Document()
	require.NoError(t, err)
	var doc struct {
		XMLName    xml.Name `xml:"http://schemas.dmtf.org/ovf/environment/1 Environment"`
		ID         string   `xml:"http://schemas.dmtf.org/ovf/environment/1 id,attr"`
		Properties []struct {
			Key   string `xml:"http://schemas.dmtf.org/ovf/environment/1 key,attr"`
			Value string `xml:"http://schemas.dmtf.org/ovf/environment/1 value,attr"`
		} `xml:"http://schemas.dmtf.org/ovf/environment/1 PropertySection>Property"`
	}
	require.NoError(t, xml.Unmarshal([]byte(text), &doc), text)
	values = map[string]string{}
	for _, p := range doc.Properties {
		values[p.Key] = p.Value
	}
	require.Len(t, values, len(doc.Properties))
	return doc.ID, values
}

// TestEnvironment: a guest is told what its package has properties for, nearest first, as the chosen option has it and
// as whoever brings it in has said; and a value is of its property's type.
func TestEnvironment(t *testing.T) {
	d, err := ovf.Parse("gauges.ovf", []byte(gauges))
	require.NoError(t, err)
	e, err := d.Environment(0)
	require.NoError(t, err)
	require.True(t, e.Disc)
	id, values := told(t, e)
	require.Equal(t, "tide", id)
	require.Equal(t, map[string]string{"site.name": "Wharf", "site.zone": "Etc/GMT", "gauge.port.1": "80",
		"gauge.offset.1": "", "gauge.metric.1": "true", "gauge.scale.1": "1", "gauge.unit.1": "m", "gauge.key.1": ""},
		values)

	for name, c := range map[string]struct{ bad, good, says string }{
		"site.name":      {"The long quay", `Quay "<&`, "MaxLen(8)"},
		"gauge.port.1":   {"65536", "65535", "is no uint16"},
		"gauge.offset.1": {"-129", "-128", "is no sint8"},
		"gauge.metric.1": {"yes", "False", "true or false"},
		"gauge.scale.1":  {"half", "0.5", "is no real32"},
		"gauge.unit.1":   {"km", "ft", "is none of m, ft"},
		"gauge.key.1":    {"abc", "swell", "MinLen(4)"},
	} {
		_, err := e.Set(name, c.bad)
		require.ErrorContains(t, err, c.says, name)
		require.Equal(t, name == "gauge.key.1", !strings.Contains(err.Error(), c.bad), "what is secret is not shown")
		there, err := e.Set(name, c.good)
		require.NoError(t, err, name)
		require.True(t, there)
		_, values := told(t, e)
		require.Equal(t, c.good, values[name])
	}
	_, err = e.Set("site.name", "a\x00b")
	require.ErrorContains(t, err, "control character")
	_, err = e.Set("site.zone", "CET")
	require.ErrorContains(t, err, "nobody else does")
	there, err := e.Set("site.size", "9")
	require.NoError(t, err)
	require.False(t, there)

	require.NoError(t, d.Choose("large"))
	e, err = d.Environment(0)
	require.NoError(t, err)
	_, values = told(t, e)
	require.Equal(t, "8080", values["gauge.port.1"])

	e, err = d.Environment(1)
	require.NoError(t, err)
	require.False(t, e.Disc)
	id, values = told(t, e)
	require.Equal(t, "rain", id)
	require.Equal(t, map[string]string{"site.name": "Wharf", "site.zone": "UTC"}, values)
	_, err = d.Environment(2)
	require.ErrorContains(t, err, "has 2 machines, not 3")
}

// TestNested: a machine is what it was read from, also where other sections hold what looks like one.
func TestNested(t *testing.T) {
	nested := strings.Replace(gauges, "<DeploymentOptionSection>", `<OldSection ovf:required="false"><Info/>
	 <VirtualSystem ovf:id="lost"><Info/><VirtualHardwareSection><Info/></VirtualHardwareSection></VirtualSystem>
	 </OldSection><DeploymentOptionSection>`, 1)
	d, err := ovf.Parse("gauges.ovf", []byte(nested))
	require.NoError(t, err)
	require.Len(t, d.Machines, 2)
	require.Equal(t, "tide", d.Machines[0].Name)
	e, err := d.Environment(0)
	require.NoError(t, err)
	require.Equal(t, "tide", e.System)
	m := d.Machines[0].Clone()
	m.Name = "ebb"
	require.NoError(t, d.SetMachine(0, m))
	require.NoError(t, d.SetProduct(1, machine.Product{Licence: "Take care"}))
	raw, err := d.Encode(0)
	require.NoError(t, err)
	again, err := ovf.Parse("gauges.ovf", raw)
	require.NoError(t, err)
	require.Equal(t, []string{"ebb", "rain"}, []string{again.Machines[0].Name, again.Machines[1].Name})
	require.Contains(t, string(raw), `ovf:id="lost"`)
	require.Contains(t, again.Notes, ovf.Deviation{Code: "descriptor.eula", Subject: "rain", Message: "Take care"})
}
