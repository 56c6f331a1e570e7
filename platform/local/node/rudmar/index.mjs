// What a function may reach, as far as its permissions allow.
//
//   import rudmar from 'rudmar'
//   const stations = rudmar.table('stations')
//   await stations.write('hill', { limit: 0.5 })
//   await stations.read('hill')              // null where there is no such row
//   await stations.query('h')                // { key: row }
//   const photos = rudmar.objects('photos')  // read, write, delete, list
//   await rudmar.queue('alerts').send({ station: 'hill' })
//   await rudmar.secret('sms_key')
import http from 'node:http'

/** The function's permissions do not allow this. */
export class Denied extends Error {
  name = 'Denied'
}
/** The former name, for functions that are deployed. */
export const Refused = Denied
/** The platform could not do this. */
export class Failed extends Error {
  name = 'Failed'
}

function ask(method, path, body, type = 'application/json') {
  const at = process.env.RUDMAR_SOCKET ? { socketPath: process.env.RUDMAR_SOCKET } : { host: new URL(process.env.RUDMAR_DATA).hostname, port: new URL(process.env.RUDMAR_DATA).port }
  return new Promise((resolve, reject) => {
    const request = http.request({ ...at, method, path: '/data' + path, agent: false, timeout: 30_000, headers: { Authorization: `Bearer ${process.env.RUDMAR_TOKEN}`, 'Content-Type': type } }, (answer) => {
      const parts = []
      answer.on('data', (part) => parts.push(part))
      answer.on('error', reject)
      answer.on('end', () => {
        const text = Buffer.concat(parts)
        if (answer.statusCode < 400) return resolve(text)
        if (answer.statusCode === 404) return resolve(null)
        let detail = String(answer.statusCode)
        try {
          detail = JSON.parse(text.toString()).detail ?? detail
        } catch {
          // it is not a problem in JSON: the status says it
        }
        reject(answer.statusCode === 401 || answer.statusCode === 403 ? new Denied(detail) : new Failed(detail))
      })
    })
    request.on('timeout', () => request.destroy(new Failed('the platform did not answer within 30 s')))
    request.on('error', reject)
    request.end(body)
  })
}

async function json(method, path, body) {
  const text = await ask(method, path, body === undefined ? undefined : JSON.stringify(body))
  return text?.length ? JSON.parse(text.toString()) : null
}

/** Rows of JSON by key. */
export function table(name) {
  const path = '/tables/' + encodeURIComponent(name)
  return {
    read: (key) => json('GET', `${path}/${encodeURIComponent(key)}`),
    write: async (key, row) => void (await json('PUT', `${path}/${encodeURIComponent(key)}`, row)),
    delete: async (key) => void (await json('DELETE', `${path}/${encodeURIComponent(key)}`)),
    query: async (prefix = '') => Object.fromEntries((await json('GET', `${path}?prefix=${encodeURIComponent(prefix)}`)).rows.map((row) => [row.key, row.value])),
  }
}

/** Bytes by key. */
export function objects(name) {
  const path = '/objects/' + encodeURIComponent(name)
  const at = (key) => `${path}/${key.split('/').map(encodeURIComponent).join('/')}`
  return {
    read: (key) => ask('GET', at(key)),
    write: async (key, content, type = 'application/octet-stream') => void (await ask('PUT', at(key), content, type)),
    delete: async (key) => void (await ask('DELETE', at(key))),
    list: async (prefix = '') => (await json('GET', `${path}?prefix=${encodeURIComponent(prefix)}`)).objects,
  }
}

/** Messages of JSON, in order of arrival. */
export function queue(name) {
  return { send: async (message) => (await json('POST', '/queues/' + encodeURIComponent(name), message)).id }
}

export async function secret(name) {
  return (await json('GET', '/secrets/' + encodeURIComponent(name))).value
}

export default { table, objects, queue, secret, Denied, Refused, Failed }
