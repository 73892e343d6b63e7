import { ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, take } from '../api/client'
import { useAct } from './act'
import { useLoad } from './load'

/** A page of objects of a kind that are looked at for one application, or for all: which one, and the drawer of one. */
export function useRulebook<T>(kind: string, list: (application?: string) => Promise<T>) {
  const application = ref(String(useRoute().query.application ?? ''))
  const { data, problem, load } = useLoad(() => list(application.value || undefined), () => [application.value])
  const { data: apps } = useLoad(async () => (await take(api.GET('/api/v1/applications'))).items ?? [])
  const open = ref(false)
  const chosen = ref<string>()
  function edit(name?: string) {
    chosen.value = name
    open.value = true
  }
  const { failed, act } = useAct({ done: load })
  const remove = (name: string) => act(() => take(api.DELETE('/api/v1/objects/{kind}/{name}', { params: { path: { kind, name } } })))
  return { application, data, problem, load, apps, open, chosen, edit, failed, remove }
}
