package person

import (
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// Link ties a provider's name for somebody to a person.
type Link struct {
	Provider federation.ID
	Key      string
	Subject  profile.Subject
}
