// Sends alerts on to the growers as text messages.
import rudmar from 'rudmar'

// Phone numbers of growers, by station.
const numbers = { hill: ['00 555 01', '00 555 02'], 'orchard-gate': ['00 555 07'] }

export async function run(call) {
  const key = await rudmar.secret('sms_key')
  for (const { body } of call.event.data.messages) {
    const growers = numbers[body.station]
    if (!growers) throw new Error(`no phone number for ${body.station}`)
    console.log(`${body.station} has ${body.celsius} °C: alerted ${growers.length} growers, with a key of ${key.length} characters`)
  }
}
