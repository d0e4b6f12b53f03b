<script lang="ts">
  // A box to tick, with its words.
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  interface Props {
    label: string;
    checked?: boolean;
    /** A switch of the shot that is the same at every frame; then nothing is told here. */
    target?: Target;
    onchange?: (checked: boolean) => unknown;
  }
  let { label, checked = $bindable(false), target, onchange }: Props = $props();

  function change(event: Event & { currentTarget: HTMLInputElement }) {
    checked = event.currentTarget.checked;
    if (target) void values.assign(target, label, checked);
    onchange?.(checked);
  }
</script>

<label class="flex min-h-[27px] items-center gap-2">
  <input
    type="checkbox"
    class="shrink-0 accent-[var(--lime)]"
    checked={target ? values.get(target) === true : checked}
    indeterminate={target !== undefined && values.differ(target)}
    onchange={change}
  />
  {label}
</label>
