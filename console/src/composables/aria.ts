/** Takes out what points to an element that is not there: a list that has no chosen entry says that the one before the first is. */
export function keepAria(root: HTMLElement) {
  const name = 'aria-activedescendant'
  const mend = (e: Element) => {
    const to = e.getAttribute(name)
    if (to && !document.getElementById(to)) e.removeAttribute(name)
  }
  new MutationObserver((changes) => {
    for (const c of changes) {
      if (c.type === 'attributes') mend(c.target as Element)
      else root.querySelectorAll(`[${name}]`).forEach(mend)
    }
  }).observe(root, { subtree: true, childList: true, attributes: true, attributeFilter: [name] })
}
