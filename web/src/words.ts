/** The forms of values for people. */

const MIB = 1024 * 1024

export function bytes(n: number): string {
  if (n >= 1024 * MIB && n % (1024 * MIB) === 0) return `${n / (1024 * MIB)} GiB`
  if (n >= MIB) return `${round(n / MIB)} MiB`
  if (n >= 1024) return `${round(n / 1024)} KiB`
  return `${n} bytes`
}

function round(n: number): string {
  return n >= 100 || Number.isInteger(n) ? n.toFixed(0) : n.toFixed(1)
}

export function duration(ms: number): string {
  if (ms < 10) return `${Number(ms.toFixed(1))} ms`
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (ms < 60_000) return `${Number((ms / 1000).toFixed(1))} s`
  if (ms < 3_600_000) return `${Math.floor(ms / 60_000)} min`
  if (ms < 2 * 86_400_000) return `${Math.floor(ms / 3_600_000)} h`
  return `${Math.floor(ms / 86_400_000)} days`
}

export function ago(at: number, now: number): string {
  const ms = now - at
  if (ms < 5000) return 'just now'
  return `${ms < 60_000 ? `${Math.round(ms / 1000)} s` : duration(ms)} ago`
}

export function exact(at: number): string {
  const d = new Date(at)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())} ${offset(d)}`
}

/** The offset of local time from UTC. */
function offset(d: Date): string {
  const minutes = -d.getTimezoneOffset()
  if (minutes === 0) return 'UTC'
  const of = Math.abs(minutes)
  const rest = of % 60 ? `:${String(of % 60).padStart(2, '0')}` : ''
  return `UTC${minutes < 0 ? '−' : '+'}${Math.floor(of / 60)}${rest}`
}

/** The day of a time, in UTC. */
export function day(at: number): string {
  return new Date(at).toISOString().slice(0, 10)
}

export function clock(at: number): string {
  return `${exact(at).slice(11, 19)}.${String(at % 1000).padStart(3, '0')}`
}

export function count(n: number, one: string, many = `${one}s`): string {
  return `${n} ${n === 1 ? one : many}`
}

/** A number of resources of a kind. */
export function resources(n: number, kind: string): string {
  switch (kind) {
    case 'identity':
      return count(n, kind, 'identities')
    case 'logs':
      return count(n, 'log')
  }
  return count(n, kind)
}

/** An attribute's value with its unit; a digest is shortened. */
export function value(v: unknown, unit?: string): string {
  if (v === null || v === undefined) return 'absent'
  if (typeof v === 'number' && unit === 'bytes') return bytes(v)
  if (typeof v === 'number' && unit === 'ms') return duration(v)
  if (typeof v === 'string') return /^sha256:[0-9a-f]{64}$/.test(v) ? digest(v) : v === '' ? '(empty)' : v
  if (typeof v === 'boolean') return v ? 'yes' : 'no'
  if (Array.isArray(v)) return v.map((x) => value(x)).join(', ')
  if (typeof v === 'object') {
    return Object.entries(v)
      .map(([k, x]) => `${k}: ${value(x)}${typeof x === 'number' && k.startsWith('r-') ? '%' : ''}`)
      .join(', ')
  }
  return String(v)
}

export function digest(d: string): string {
  return d.replace('sha256:', '').slice(0, 12)
}

/** A list of names; of many the first, and the number of others. */
export function some(names: string[], most = 8): string {
  return names.length <= most + 1
    ? names.join(', ')
    : `${names.slice(0, most).join(', ')} and ${names.length - most} more`
}

/** The author of a commit, and who pushed it, as signed in, if that is somebody else. */
export function writer(c: { author: string; person: string }): string {
  return c.person && c.person !== c.author ? `${c.author}, pushed by ${c.person}` : c.author
}

/** The location of a value, in words. */
export function origin(o: { file?: string; line?: number; rule: string }): string {
  if (o.file) return `${o.file}:${o.line ?? 1}`
  return o.rule === 'built-in' ? 'Rudmar default' : o.rule
}

/** The color class of a state, which is always shown with its name. */
export function tone(state: string): string {
  switch (state) {
    case 'settled':
    case 'succeeded':
    case 'built':
    case 'passed':
    case 'overridden':
    case 'sent':
    case 'isolated':
    case 'healthy':
      return 'good'
    case 'failed':
    case 'unhealthy':
    case 'not-met':
    case 'rejected':
    case 'refused':
    case 'partially-succeeded':
    case 'timed-out':
    case 'out-of-memory':
    case 'error':
    case 'open':
      return 'bad'
    case 'waiting':
    case 'queued':
    case 'rolled-back':
    case 'throttled':
    case 'warning':
      return 'wait'
    case 'planning':
    case 'deploying':
    case 'testing':
    case 'shifting':
    case 'running':
    case 'building':
      return 'move'
  }
  return 'quiet'
}

/** The class of a line of impact, by its severity. */
export const severityTone = { critical: 'bad', review: 'wait', info: '' }

/** The text of a state or kind: "rolled-back" is "rolled back". */
export function stateText(state: string): string {
  return state.replaceAll('-', ' ')
}
