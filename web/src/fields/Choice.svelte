<script lang="ts">
  import { ToggleGroup } from "bits-ui";

  interface Props {
    label: string;
    value: string;
    options: [string, string][];
    /** Whether the elements that are changed together differ in it. */
    differ?: boolean;
    onpick: (value: string) => void;
  }
  let { label, value: own, options, differ = false, onpick }: Props = $props();
  let value = $derived(differ ? "" : own);
</script>

<div class="grid grid-cols-[108px_1fr] items-center gap-2">
  <span
    >{label}{#if differ}<small class="ml-1 text-faint">differ</small>{/if}</span
  >
  <ToggleGroup.Root
    type="single"
    {value}
    onValueChange={(next) => next && onpick(next)}
    aria-label={label}
    class="flex gap-[3px]"
  >
    {#each options as [key, name] (key)}
      <ToggleGroup.Item
        value={key}
        class="min-w-0 flex-auto rounded-md border border-transparent bg-ground px-0.5 py-[3px] text-center whitespace-nowrap text-soft data-[state=on]:border-solid data-[state=on]:bg-raised data-[state=on]:font-semibold data-[state=on]:text-ink"
        style={value === key ? "border-color: var(--solid)" : ""}>{name}</ToggleGroup.Item
      >
    {/each}
  </ToggleGroup.Root>
</div>
