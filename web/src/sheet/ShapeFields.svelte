<script lang="ts">
  // The measures of a shape.
  import type { Element, Schemas } from "../api/client";
  import ParameterRows from "../fields/ParameterRows.svelte";

  interface Props {
    element: Element;
    ids: number[];
    shape: Schemas["Shape"];
    /** Where the shape lies in the element, such as `kind.solid.shape`. */
    path: string;
  }
  let { element, ids, shape, path }: Props = $props();
  let kind = $derived(Object.keys(shape)[0]);
</script>

<ParameterRows target={{ element, ids, path: `${path}.${kind}` }} />
{#if "mesh" in shape}
  <p class="text-soft">From the file “{shape.mesh.asset}”.</p>
{/if}
