<script lang="ts" generics="T extends string">
  import ChevronDown from "@lucide/svelte/icons/chevron-down";
  import { Select } from "bits-ui";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  interface Props {
    label: string;
    value: T;
    /** Values and their words. */
    options: [NoInfer<T>, string][];
    /** The value that is picked, to tell where the elements selected differ in it. */
    target?: Target;
    /** Without its label before it. */
    bare?: boolean;
    onpick: (value: NoInfer<T>) => void;
  }
  let { label, value: own, options, target, bare = false, onpick }: Props = $props();
  let differ = $derived(target !== undefined && values.differ(target));
  let value = $derived(differ ? "" : own);
  let shown = $derived(differ ? "differ" : (options.find(([key]) => key === own)?.[1] ?? own));
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
