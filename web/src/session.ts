import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api } from './api'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const name = ref('')

  async function known(): Promise<boolean> {
    if (!name.value) {
      const { data } = await api.GET('/api/v1/me')
      name.value = data?.name ?? ''
    }
    return name.value !== ''
  }

  async function signOut() {
    await api.POST('/api/v1/sign-out')
    name.value = ''
  }

  return { name, known, signOut }
})
