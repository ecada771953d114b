// Filters that are part of the URL, so that a list can be linked.
import { computed, ref, watch, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

export function useAddressFilter(name: string): Ref<string | undefined> {
  const route = useRoute()
  const router = useRouter()
  return computed({
    get: () =>
      typeof route.query[name] === 'string' && route.query[name] ? String(route.query[name]) : undefined,
    set: (value) => void router.replace({ query: { ...route.query, [name]: value || undefined } }),
  })
}

/** Typed words, which are put into the URL when the typing pauses. */
export function useWords(): { typed: Ref<string>; words: Ref<string | undefined> } {
  const words = useAddressFilter('q')
  const typed = ref(words.value ?? '')
  let timer: ReturnType<typeof setTimeout> | undefined
  watch(typed, (text) => {
    clearTimeout(timer)
    timer = setTimeout(() => (words.value = text?.trim()), 250)
  })
  return { typed, words }
}
