// The page works without this: it tells while somebody types where they go on, and finds a button among many.
const address = document.getElementById('address')
const way = document.getElementById('way')
let turn = 0
address?.addEventListener('input', async () => {
  const mine = ++turn
  const domain = address.value.split('@')[1] ?? ''
  way.textContent = ''
  if (!/^[^.\s]+(\.[^.\s]+)+$/.test(domain)) return
  await new Promise((done) => setTimeout(done, 300))
  if (mine !== turn) return
  const answer = await fetch('/ways?domain=' + encodeURIComponent(domain))
  if (mine === turn && answer.ok) way.textContent = await answer.text()
})
const filter = document.getElementById('filter')
if (filter) {
  filter.hidden = false
  const field = filter.querySelector('input')
  field.addEventListener('input', () => {
    for (const b of document.querySelectorAll('#choices button')) b.hidden = !b.innerText.toLowerCase().includes(field.value.toLowerCase())
  })
}
