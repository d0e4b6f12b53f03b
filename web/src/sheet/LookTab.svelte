<script lang="ts">
  import type { Element, Solid } from "../api/client";
  import Surface from "./Surface.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let ids = $derived(selection.ids.filter((id) => solidOf(shot.element(id))));
</script>

<label class="mb-2 flex min-h-[27px] items-center gap-2">
  <input
    type="checkbox"
    class="accent-[var(--lime)]"
    checked={element.see_through ?? false}
    onchange={(event) =>
      shot.set(`See-through of ${element.name}`, ids, "/see_through", event.currentTarget.checked)}
  />
  See through it on the Viewport
</label>
<Surface {element} {ids} root="kind.solid.look" look={solid.look ?? {}} />
