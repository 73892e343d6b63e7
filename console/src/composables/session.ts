import { ref } from 'vue'
import { api, take } from '../api/client'

const username = ref('')
const needsOwner = ref(false)

/** Who is signed in to the console. */
export const session = {
  username,
  needsOwner,
  async load() {
    const me = await take(api.GET('/api/v1/me'))
    username.value = me.username ?? ''
    needsOwner.value = me.needsOwner
  },
  async signIn(user: string, password: string) {
    const me = await take(api.POST('/api/v1/me', { body: { username: user, password } }))
    username.value = me.username ?? ''
  },
  async setUp(token: string, user: string, password: string) {
    const me = await take(api.POST('/api/v1/setup', { body: { token, username: user, password } }))
    username.value = me.username ?? ''
  },
  async signOut() {
    await take(api.DELETE('/api/v1/me'))
    username.value = ''
  },
}
