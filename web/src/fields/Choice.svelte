<script lang="ts">
  import { ToggleGroup } from "bits-ui";

  interface Props {
    label: string;
    value: string;
    options: [string, string][];
    onpick: (value: string) => void;
  }
  let { label, value, options, onpick }: Props = $props();
</script>

<div class="grid grid-cols-[108px_1fr] items-center gap-2">
  <span>{label}</span>
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
        class="min-w-0 flex-auto rounded-md border border-transparent bg-ground px-1 py-[3px] text-center whitespace-nowrap text-soft data-[state=on]:border-solid data-[state=on]:bg-raised data-[state=on]:font-semibold data-[state=on]:text-ink"
        style={value === key ? "border-color: var(--solid)" : ""}>{name}</ToggleGroup.Item
      >
    {/each}
  </ToggleGroup.Root>
</div>
