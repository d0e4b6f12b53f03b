<script lang="ts">
  import type { Element, Solid } from "../api/client";
  import Surface from "./Surface.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let ids = $derived(selection.ids.filter((id) => solidOf(shot.element(id))));
</script>

<Surface {element} {ids} root="kind.solid.look" look={solid.look ?? {}} />
