/** Splits two texts into the part they begin with alike, the differing middle, and the part they end with alike. */
export function parts(a: string, b: string) {
  let head = 0
  while (head < a.length && head < b.length && a[head] === b[head]) head++
  let tail = 0
  while (tail < a.length - head && tail < b.length - head && a.at(-1 - tail) === b.at(-1 - tail)) tail++
  const cut = (s: string) => [s.slice(0, head), s.slice(head, s.length - tail), s.slice(s.length - tail)] as const
  return [cut(a), cut(b)] as const
}
