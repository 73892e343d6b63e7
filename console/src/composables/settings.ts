import type { Field } from '../components/SettingsDrawer.vue'

const about: Field[] = [
  { name: 'title', label: 'Title', kind: 'text' },
  { name: 'description', label: 'Description', kind: 'long' },
  { name: 'owner', label: 'Owner', kind: 'text', hint: 'who answers for it here' },
  { name: 'contact', label: 'Contact', kind: 'text', hint: 'whom to ask on the other side' },
  { name: 'notes', label: 'Notes', kind: 'long', hint: 'why it is set up so' },
]

const keeping: Field[] = [
  { name: 'approveChanges', label: 'Changes of its metadata wait for approval', kind: 'switch', hint: 'of keys, addresses or entity ID; otherwise they act at once, with a finding' },
  { name: 'trustKey', label: 'Trust key', kind: 'long', hint: 'certificate in PEM whose key must have signed the metadata' },
]

export const providerFields: Field[] = [
  { name: 'phase', label: 'Phase', kind: 'choice', choices: [{ value: 'live', label: 'live: people are sent to it, and its answers are taken' }, { value: 'paused', label: 'paused: nobody passes' }] },
  ...about,
  { name: 'requestBinding', label: 'Requests are sent by', kind: 'choice', choices: [{ value: '', label: 'Redirect if possible' }, { value: 'redirect', label: 'Redirect' }, { value: 'post', label: 'POST' }] },
  { name: 'useArtifact', label: 'Ask for answers by artifact', kind: 'switch', hint: 'for providers that insist on it; needs a back channel from the gate to the provider' },
  { name: 'signRequests', label: 'Sign requests, even if its metadata does not want it', kind: 'switch' },
  { name: 'requireSignedAssertion', label: 'Demand that the assertion itself is signed', kind: 'switch', hint: 'a signature on the Response alone is not enough then' },
  { name: 'allowUnsolicited', label: 'Accept answers that nobody asked for', kind: 'switch', hint: 'people may start at the provider' },
  { name: 'askNameIdFormat', label: 'NameID format to ask for', kind: 'choice', choices: [
    { value: '', label: 'left to the provider' },
    { value: 'urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress', label: 'emailAddress' },
    { value: 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', label: 'persistent' },
    { value: 'urn:oasis:names:tc:SAML:2.0:nameid-format:transient', label: 'transient' },
    { value: 'urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified', label: 'unspecified' }] },
  { name: 'askContext', label: 'Authentication context to ask for', kind: 'text', hint: 'an AuthnContextClassRef, where the application asks for none; the answer is held against it' },
  { name: 'contextWords', label: 'Its own words for authentication contexts', kind: 'long', hint: 'THEIRS>OURS, separated by spaces: what it says is translated before it is ranked, and what it is asked for on the way out' },
  { name: 'ownEntityId', label: 'Entity ID of the gate towards it', kind: 'text', hint: 'any string up to 1024 characters that the other side demands' },
  { name: 'formerEntityId', label: 'Former entity ID', kind: 'text', hint: 'accepted beside it as audience, while the other side moves' },
  { name: 'sharedFace', label: 'Use the face that several providers share', kind: 'switch', hint: 'where a federation will not register several' },
  ...keeping,
  { name: 'strictCertificates', label: 'Refuse certificates past their date', kind: 'switch', hint: 'otherwise trust is by key, and the date only warns' },
  { name: 'allowSHA1', label: 'Exception: accept SHA-1', kind: 'switch', hint: 'leaves a warning in every trace' },
  { name: 'allowCBC', label: 'Exception: accept AES-CBC outside a signed Response', kind: 'switch' },
]

export const applicationFields = (providers: { name: string; title: string }[]): Field[] => [
  { name: 'phase', label: 'Phase', kind: 'choice', choices: [{ value: 'live', label: 'live: people may pass to it' }, { value: 'paused', label: 'paused: nobody passes' }] },
  ...about,
  { name: 'provider', label: 'Provider', kind: 'choice', choices: [{ value: '', label: 'decided by the routing' }, ...providers.map((p) => ({ value: p.name, label: p.title }))] },
  { name: 'onlyOwnStarts', label: 'It accepts only sign-ins it started', kind: 'switch', hint: 'then the gate opens it at its own start address' },
  { name: 'ownStart', label: 'Its own start address', kind: 'text' },
  { name: 'ownHosts', label: 'Hosts it owns', kind: 'text', hint: 'beside that of its entity ID, separated by spaces; answers to other hosts become an error' },
  { name: 'nameIdFormat', label: 'NameID format', kind: 'choice', hint: 'where its request leaves it open', choices: [
    { value: '', label: 'as the provider gave it' },
    { value: 'urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress', label: 'emailAddress' },
    { value: 'urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', label: 'persistent, another one for each application' },
    { value: 'urn:oasis:names:tc:SAML:2.0:nameid-format:transient', label: 'transient' },
    { value: 'urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified', label: 'unspecified' }] },
  { name: 'sign', label: 'Signed is', kind: 'choice', choices: [{ value: '', label: 'the assertion' }, { value: 'response', label: 'the Response' }, { value: 'both', label: 'both' }] },
  { name: 'ownFace', label: 'A face of its own', kind: 'switch', hint: 'its own entity ID, address and keys of the gate' },
  { name: 'ownEntityId', label: 'Entity ID of that face', kind: 'text' },
  { name: 'encrypt', label: 'Encrypt the assertion', kind: 'switch', hint: 'with the key for encryption in its metadata' },
  { name: 'encryptNames', label: 'Encrypt NameID and attributes instead of the whole assertion', kind: 'switch' },
  { name: 'requireSignedRequests', label: 'Demand signed requests, even if its metadata allows others', kind: 'switch' },
  ...keeping,
  { name: 'allowSHA1', label: 'Exception: accept SHA-1', kind: 'switch', hint: 'leaves a warning in every trace' },
]
