// Opens the draft of an editor, keeps it while somebody writes, and closes it with the page.
import { onDestroy, untrack } from 'svelte';
import type { Draft } from './draft.svelte';

/** To be called while a component begins. ready: what there was of a draft is there. */
export function keeping(draft: Draft): { readonly ready: boolean; readonly trouble: unknown } {
  let ready = $state(false);
  let trouble = $state.raw<unknown>(null);
  void draft
    .open()
    .catch((error: unknown) => (trouble = error))
    .finally(() => (ready = true));
  // A page that is closed before its draft is kept asks first.
  const asks = (event: BeforeUnloadEvent) => {
    if (draft.unkept) event.preventDefault();
  };
  window.addEventListener('beforeunload', asks);
  onDestroy(() => {
    window.removeEventListener('beforeunload', asks);
    draft.close();
  });
  $effect(() => {
    void JSON.stringify(draft.value);
    void draft.name;
    if (ready) untrack(() => draft.note());
  });
  return {
    get ready() {
      return ready;
    },
    get trouble() {
      return trouble;
    },
  };
}
