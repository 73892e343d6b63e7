import type { Schemas } from '../api/client'

export type Rule = Schemas['Rule']
export type Step = Schemas['Step']
export type Source = Schemas['Source']
export type Mapping = { rules: Rule[]; rest?: boolean }

/** What steps do, in words, and what they take. */
export const steps: Record<string, { words: string; text?: string; with?: string; table?: boolean }> = {
  trim: { words: 'white space around it goes' }, lower: { words: 'small letters' }, upper: { words: 'capital letters' },
  before: { words: 'the part before the first', text: 'Separator' },
  beforeLast: { words: 'the part before the last', text: 'Separator' },
  after: { words: 'the part after the first', text: 'Separator' },
  afterLast: { words: 'the part after the last', text: 'Separator' },
  prefix: { words: 'put in front', text: 'Text' }, suffix: { words: 'put behind', text: 'Text' },
  capture: { words: 'what the first group of a pattern matched', text: 'Pattern' },
  replace: { words: 'each match of a pattern becomes', text: 'Pattern', with: 'In its place; ${1} is the first group' },
  keep: { words: 'only values that a pattern matches', text: 'Pattern' },
  drop: { words: 'no values that a pattern matches', text: 'Pattern' },
  lookUp: { words: 'look up in a table', table: true },
  date: { words: 'a date in another form', text: 'Form it has', with: 'Form it takes' },
  number: { words: 'a number' }, boolean: { words: 'true or false' },
  split: { words: 'several values of one', text: 'Separator' }, join: { words: 'one of all values', text: 'Separator' },
  first: { words: 'the first value alone' }, distinct: { words: 'each value once' },
}

const said = (s: Source) => (s.subject ? 'the subject' : s.role ? 'the role' : s.constant ? `“${s.constant}”` : s.expression ?? s.attribute ?? '')

/** What a rule makes. */
export const makes = (r: Rule) => (r.to.subject ? 'the subject' : r.to.name || '(nothing yet)')

/** What a rule makes it of, in a line. */
export function sentence(r: Rule): string {
  if (r.omit) return 'not made, other than in the set'
  const parts = [(r.from ?? []).map(said).join(r.all ? ' and ' : ' or ')]
  if (r.when) parts.push(`when ${r.when}`)
  for (const s of r.steps ?? []) {
    parts.push(s.do === 'lookUp' ? `look up in ${s.table?.length ?? 0}` : s.with ? `${s.do} “${s.text}” with “${s.with}”`
      : s.text ? `${s.do} “${s.text}”` : s.do)
  }
  if (r.default?.length) parts.push(`else ${r.default.join(' and ')}`)
  if (r.mandatory) parts.push('mandatory')
  if (r.keep) parts.push('kept with the person')
  return parts.filter(Boolean).join(', ')
}

/** A rule without what says nothing. */
export function clean(r: Rule): Rule {
  const full = (v: unknown) => v !== '' && v !== false && v !== undefined && v !== null && !(Array.isArray(v) && !v.length)
  const some = <T extends object>(o: T) => Object.fromEntries(Object.entries(o).filter(([, v]) => full(v))) as T
  return some({ ...r, to: some(r.to), from: r.from?.map(some), steps: r.steps?.map(some) })
}

const order = ['to', 'omit', 'from', 'all', 'when', 'steps', 'default', 'mandatory', 'keep', 'note']

/** A mapping as text: one rule on each line. */
export function written(m: Mapping): string {
  if (!m.rules.length) return m.rest ? '{"rest": true}' : ''
  const line = (rule: Record<string, unknown>) => '  {'
    + [...new Set([...order, ...Object.keys(rule)])].filter((k) => k in rule)
      .map((k) => `${JSON.stringify(k)}: ${JSON.stringify(rule[k])}`).join(', ') + '}'
  return `{"rules": [\n${m.rules.map((r) => line(r as Record<string, unknown>)).join(',\n')}\n]${m.rest ? ', "rest": true' : ''}}`
}

/** A mapping as it comes from the API, or out of a text. */
export const mappingOf = (m: unknown): Mapping => {
  const { rules, rest } = (m ?? {}) as { rules?: Rule[] | null; rest?: boolean }
  return { rules: rules ?? [], ...(rest ? { rest } : {}) }
}

/** Values of a trial, as people read them. */
export const shown = (values: unknown[] | null | undefined) =>
  (values ?? []).map((v) => (typeof v === 'string' ? v : JSON.stringify(v)))
