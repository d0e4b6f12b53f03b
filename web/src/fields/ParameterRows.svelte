<script lang="ts">
  // A field for each value that lies just below a path, in the order in which they are declared.
  import ParameterField from "./ParameterField.svelte";
  import { declaredBelow } from "../state/declared";
  import type { Target } from "../state/target";

  /** The target of what they lie below, and those that are shown elsewhere. */
  let { target, without = [] }: { target: Target; without?: string[] } = $props();
  let paths = $derived(
    declaredBelow(target.path).filter((path) => !without.includes(path.slice(target.path.length + 1))),
  );
</script>

{#each paths as path (path)}
  <ParameterField target={{ ...target, path }} />
{/each}
