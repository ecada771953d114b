// Dialogs that edit one item: open while there is an item, and with the effects of what is typed.
import { computed, type ComputedRef, type Ref, type WritableComputedRef } from 'vue'
import { useConfirmation } from './confirmation'
import { usePaused } from './debounce'

/** Whether the dialog of an item is open; closing it forgets the item. */
export function useItemDialog<Item>(item: Ref<Item | null>): WritableComputedRef<boolean> {
  return computed({
    get: () => item.value !== null,
    set: (now) => (item.value = now ? item.value : null),
  })
}

/**
 * The effects of an edit, asked for when the typing pauses.
 *
 * @param open whether the dialog is open
 * @param wish the new values
 * @param about what the preview depends on beside the values
 * @param preview calls the API with the values
 */
export function useEffects<Wish, Effects>(
  open: Ref<boolean>,
  wish: ComputedRef<Wish>,
  about: () => unknown,
  preview: (wish: Wish) => Promise<Effects>,
): ReturnType<typeof useConfirmation<Effects>> & { looking: ComputedRef<boolean> } {
  const settled = usePaused(() => wish.value, 300)
  const confirmation = useConfirmation(
    open,
    () => ['effects', about(), settled.value],
    () => preview(settled.value),
    () => settled.value === wish.value,
  )
  const looking = computed(() => settled.value !== wish.value || confirmation.effects.isFetching.value)
  return { ...confirmation, looking }
}
