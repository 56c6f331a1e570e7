/** Shows the prices, sends new ones to a queue, and writes down what comes from it. */
import rudmar from 'rudmar'

export async function run({ event }) {
  if (event.type === 'rudmar.queue.messages') {
    for (const { body } of event.data.messages) await rudmar.table('prices').write(body.fruit, { pence: body.pence })
    console.log('wrote', event.data.messages.length, 'prices')
    return null
  }
  if (event.method === 'PUT') {
    const pence = event.body?.pence
    if (!Number.isInteger(pence) || pence <= 0) return { status: 422, body: { problem: 'pence is a whole number over 0' } }
    await rudmar.queue('prices').send({ fruit: event.params.fruit, pence })
    return { status: 202, body: { taken: true } }
  }
  return { status: 200, body: await rudmar.table('prices').query() }
}
