// Says which rows are watered today: every other one.
export function run(call) {
  const day = new Date(call.event.time ?? Date.now()).getUTCDate()
  const rows = [1, 2, 3, 4, 5, 6, 7, 8].filter((row) => row % 2 === day % 2)
  console.log('rows today:', rows.join(', '))
  return { rows }
}
