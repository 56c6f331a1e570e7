// Runs one function: reads calls from file descriptor 3, answers them on 4.
//
// Frames are four bytes of length, big-endian, and JSON. Every line of output
// belongs to the right call: the streams are pipes, to which Node writes at once.
import fs from 'node:fs'
import net from 'node:net'
import path from 'node:path'
import { pathToFileURL } from 'node:url'

const ANSWERS = 4
const calls = new net.Socket({ fd: 3, readable: true, writable: false })
let held = Buffer.alloc(0)
let wake = null

calls.on('data', (part) => {
  held = held.length ? Buffer.concat([held, part]) : part
  wake?.()
})
calls.on('end', () => process.exit(0))
calls.on('error', () => process.exit(0))

async function receive() {
  for (;;) {
    if (held.length >= 4) {
      const size = held.readUInt32BE(0)
      if (held.length >= 4 + size) {
        const body = held.subarray(4, 4 + size)
        held = held.subarray(4 + size)
        return JSON.parse(body.toString())
      }
    }
    await new Promise((resolve) => (wake = resolve))
    wake = null
  }
}

function send(id, value) {
  const body = Buffer.from(`{"call":${JSON.stringify(id)}` + (value === '{}' ? '}' : ',' + value.slice(1)))
  const head = Buffer.alloc(4)
  head.writeUInt32BE(body.length)
  for (let rest = Buffer.concat([head, body]); rest.length; ) rest = rest.subarray(fs.writeSync(ANSWERS, rest))
}

Error.stackTraceLimit = 100

// The stack of an error, and of what caused it.
function trace(error, seen = new Set()) {
  if (!(error instanceof Error) || seen.has(error)) return ''
  seen.add(error)
  let text = String(error.stack ?? error)
  for (const inner of error.errors ?? []) text += '\n  one of them: ' + trace(inner, seen)
  if (error.cause !== undefined) text += '\n  caused by: ' + (trace(error.cause, seen) || String(error.cause))
  return text
}

function failure(error) {
  const of = error instanceof Error ? error : new Error(String(error))
  return JSON.stringify({ error: { kind: of.name, message: String(of.message).slice(0, 2000), trace: trace(of).slice(0, 64 << 10) } })
}

/** What a handler gets: the event and the circumstances of this call. */
class Call {
  constructor(frame, start) {
    for (const name of ['event', 'id', 'deadline']) this[name] = frame[name]
    for (const name of ['function', 'version', 'stage', 'memory_limit']) this[name] = start[name]
  }
  remaining_ms() {
    return Math.max(0, this.deadline - Date.now())
  }
}

async function load(code, handler) {
  const [file, name] = handler.split(':')
  const found = ['.mjs', '.js', '.cjs'].map((ending) => path.join(code, file + ending)).find((full) => fs.existsSync(full))
  if (!found) throw new Error(`there is no ${file}.mjs, ${file}.js or ${file}.cjs`)
  const module = await import(pathToFileURL(found).href)
  const fn = module[name] ?? module.default?.[name]
  if (typeof fn !== 'function') throw new Error(`${path.basename(found)} exports no function ${name}; the handler is ${handler}`)
  return fn
}

// An answer to a route may hold bytes; JSON carries them as base64.
function plain(answer) {
  if (!(answer?.body instanceof Uint8Array)) return answer === undefined ? null : answer
  return { ...answer, body: Buffer.from(answer.body).toString('base64'), body_is_base64: true }
}

let now = null // the call that runs: what nobody awaits fails it too
process.on('uncaughtException', (error) => now?.(error))
process.on('unhandledRejection', (error) => now?.(error))

const start = await receive()
let handler
let ready = '{}'
try {
  handler = await load(start.code, start.handler)
} catch (error) {
  ready = failure(error)
}
send(start.id, ready)
for (;;) {
  const call = new Call(await receive(), start)
  let body
  try {
    const stray = new Promise((_, reject) => (now = reject))
    const answer = await Promise.race([handler(call), stray])
    body = JSON.stringify({ answer: plain(answer) })
  } catch (error) {
    body = failure(error)
  }
  now = null
  send(call.id, body)
}
