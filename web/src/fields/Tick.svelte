<script lang="ts">
  // A box to tick, with its words.
  interface Props {
    label: string;
    checked: boolean;
    onchange?: (checked: boolean) => unknown;
  }
  let { label, checked = $bindable(), onchange }: Props = $props();
</script>

<label class="flex min-h-[27px] items-center gap-2">
  <input
    type="checkbox"
    class="shrink-0 accent-[var(--lime)]"
    bind:checked
    onchange={(event) => onchange?.(event.currentTarget.checked)}
  />
  {label}
</label>
