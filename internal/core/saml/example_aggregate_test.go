package saml_test

import (
	"fmt"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
)

// An aggregate is read entity by entity; those that cannot be used say why, and
// the others can be cut out and read alone.
func ExampleReadAggregate() {
	document := `<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" Name="Northern lines" cacheDuration="PT6H">
  <EntityDescriptor entityID="https://roster.alder.example/saml">
    <SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">
      <AssertionConsumerService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" Location="https://roster.alder.example/acs" index="0"/>
    </SPSSODescriptor>
  </EntityDescriptor>
  <EntityDescriptor entityID="https://roster.alder.example/saml"/>
</EntitiesDescriptor>`
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	a, err := saml.ReadAggregate(strings.NewReader(document), saml.Trusting{Now: now}, func(e *saml.Entity) error {
		if e.Problem != nil {
			fmt.Println("refused:", finding.Of(e.Problem).Code)
			return nil
		}
		m, err := saml.ReadMetadata(saml.Cut(e.Wrap, []byte(document[e.Start:e.End])), now)
		if err != nil {
			return err
		}
		fmt.Println(m.EntityID, e.Roles, m.CacheDuration)
		return nil
	})
	fmt.Println(a.Name, a.Entities, a.Broken, err)
	// Output:
	// https://roster.alder.example/saml [SPSSODescriptor] 6h0m0s
	// refused: aggregate-entity-twice
	// Northern lines 2 1 <nil>
}
