<script lang="ts" generics="T extends string">
  import ChevronDown from "@lucide/svelte/icons/chevron-down";
  import { Select } from "bits-ui";

  interface Props {
    label: string;
    value: T;
    /** Values and their words. */
    options: [NoInfer<T>, string][];
    /** Without its label before it. */
    bare?: boolean;
    onpick: (value: NoInfer<T>) => void;
  }
  let { label, value, options, bare = false, onpick }: Props = $props();
  let shown = $derived(options.find(([key]) => key === value)?.[1] ?? value);
</script>

<div class={`grid min-h-[27px] items-center gap-2 ${bare ? "" : "grid-cols-[108px_1fr]"}`}>
  {#if !bare}<span>{label}</span>{/if}
  <Select.Root
    type="single"
    {value}
    onValueChange={(next) => onpick(next as T)}
    items={options.map(([key, name]) => ({ value: key, label: name }))}
  >
    <Select.Trigger class="field flex items-center justify-between text-left" aria-label={label}
      >{shown} <ChevronDown size={13} /></Select.Trigger
    >
    <Select.Portal>
      <Select.Content
        class="card z-50 max-h-[300px] min-w-[160px] overflow-auto p-1 shadow-2xl"
        sideOffset={4}
      >
        {#each options as [key, name] (key)}
          <Select.Item value={key} label={name} class="rounded-md px-2.5 py-1 data-highlighted:bg-raised"
            >{name}</Select.Item
          >
        {/each}
      </Select.Content>
    </Select.Portal>
  </Select.Root>
</div>
