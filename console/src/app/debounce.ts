// A typed value, taken when the typing pauses.
import { shallowRef, watch, type Ref } from 'vue'

export function usePaused<T>(source: () => T, milliseconds: number): Ref<T> {
  // Shallow, so that the result is the typed value itself.
  const settled = shallowRef(source())
  let timer: ReturnType<typeof setTimeout> | undefined
  watch(source, (now) => {
    clearTimeout(timer)
    timer = setTimeout(() => (settled.value = now), milliseconds)
  })
  return settled
}
