import { onUnmounted, ref, shallowRef, watch, type Ref } from 'vue'

/** Follows a stream of server-sent events: the newest one, and whether the connection stands. The browser connects again by
 * itself; each event says all that there is to say, so nothing is lost in between. */
export function useStream<T>(address: () => string | undefined, each?: (event: T) => void, opened?: () => void) {
  const data = shallowRef<T>() as Ref<T | undefined>
  const state = ref<'off' | 'live' | 'again'>('off')
  let source: EventSource | undefined
  function close() {
    source?.close()
    source = undefined
    state.value = 'off'
  }
  watch(address, (to) => {
    close()
    data.value = undefined
    if (!to) return
    source = new EventSource(to)
    source.onopen = () => { state.value = 'live'; opened?.() }
    source.onerror = () => { state.value = 'again' }
    source.onmessage = (m: MessageEvent<string>) => {
      state.value = 'live'
      data.value = JSON.parse(m.data) as T
      each?.(data.value)
    }
  }, { immediate: true })
  onUnmounted(close)
  return { data, state, close }
}
