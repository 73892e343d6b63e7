import type { Schemas } from '../api/client'

/** What becomes of somebody who wants to enter, for people. */
export const decisions: Record<string, string> = { allow: 'enters', deny: 'does not enter', 'step-up': 'signs in more strongly, or afresh, first' }
export const tones: Record<string, string> = { allow: 'passed', deny: 'refused', 'step-up': 'waiting' }
export const signs: Record<string, string> = { allow: '●', deny: '✕', 'step-up': '○' }

/** What a decision rests on, for people. */
export function grounds(g: Schemas['Ground'] | undefined, decision: string): string {
  if (!g) return 'the account or the application is closed'
  if (g.by === 'rule') return g.title || g.name || ''
  if (g.by === 'default') return 'whoever nothing else is about'
  return g.name ? `the group ${g.name} is ${decision === 'deny' ? 'kept out' : 'admitted'}` : 'admitted by name'
}
