<script lang="ts">
  // A switch that can be keyed.
  import Thread from "./Thread.svelte";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  let { label, target }: { label: string; target: Target } = $props();
</script>

<div class="threaded">
  <label class="flex min-h-[27px] items-center gap-2">
    <input
      type="checkbox"
      class="accent-[var(--lime)]"
      checked={values.get(target) === true}
      indeterminate={values.differ(target)}
      onchange={(event) => values.set(target, label, event.currentTarget.checked)}
    />
    {label}
  </label>
  <Thread {label} {target} />
</div>
