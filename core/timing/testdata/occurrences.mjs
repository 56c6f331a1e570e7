// Prints the occurrences of calendars by an independent library. The input has one JSON array: texts of
// calendars with one recurring event each, in times of UTC. The output has the starts of each, in seconds.
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'

const ICAL = createRequire(new URL('../../../web/package.json', import.meta.url))('ical.js')
const library = ICAL.default ?? ICAL
const limit = Date.UTC(2029, 0, 1) / 1000

const out = JSON.parse(readFileSync(0, 'utf8')).map((text) => {
  const calendar = new library.Component(library.parse(text))
  const event = new library.Event(calendar.getAllSubcomponents('vevent').find((e) => !e.hasProperty('recurrence-id')))
  for (const other of calendar.getAllSubcomponents('vevent'))
    if (other.hasProperty('recurrence-id')) event.relateException(new library.Event(other))
  const starts = []
  const each = event.iterator()
  for (let at = each.next(); at && starts.length < 3000; at = each.next()) {
    if (at.toUnixTime() >= limit) break
    starts.push(event.getOccurrenceDetails(at).startDate.toUnixTime())
  }
  return starts
})
process.stdout.write(JSON.stringify(out))
