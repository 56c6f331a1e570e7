// Writes the label of a box: its number in five digits, and whom it is for.
export function run(call) {
  const number = Number(call.event.params.number)
  if (!Number.isInteger(number)) return { status: 422, body: { problem: 'the number of a box is a whole number' } }
  return { status: 200, body: { label: String(number).padStart(5, '0') + ' Brambleford Growers' } }
}
