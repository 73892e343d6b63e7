// The page works without this: it finds tiles while somebody types.
const field = document.getElementById('search')
field?.form.addEventListener('submit', (e) => e.preventDefault())
field?.addEventListener('input', () => {
  const words = field.value.toLowerCase().split(/\s+/)
  for (const s of document.querySelectorAll('main > section')) {
    let some = false
    for (const t of s.querySelectorAll('.tiles > li')) {
      t.hidden = !words.every((w) => t.textContent.toLowerCase().includes(w))
      some ||= !t.hidden
    }
    s.hidden = !some
  }
})
