// What is being typed, taken up when the typing pauses.
import { shallowRef, watch, type Ref } from 'vue'

export function usePaused<T>(source: () => T, milliseconds: number): Ref<T> {
  // Not deep: what has settled is the very value that was typed.
  const settled = shallowRef(source())
  let timer: ReturnType<typeof setTimeout> | undefined
  watch(source, (now) => {
    clearTimeout(timer)
    timer = setTimeout(() => (settled.value = now), milliseconds)
  })
  return settled
}
