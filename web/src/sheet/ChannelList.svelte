<script lang="ts">
  import type { Element } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { INTERPOLATIONS, OUTSIDE, nameOf } from "../state/channels";
  import { keysOf, channelsOf, withChange, withoutKey, type Channel } from "../state/keys";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import { channelOperations } from "../state/values.svelte";

  /** The values of an element that change with time, key by key. */
  let { element }: { element: Element } = $props();
  let channels = $derived(Object.entries(channelsOf(element)));
  let open = $state<string | null>(null);

  function set(path: string, change: (channel: Channel) => Channel | null) {
    return shot.edit(`${nameOf(path)} of ${element.name} keyed`, (document) => {
      const channel = channelsOf(document.elements.find((e) => e.id === element.id))[path];
      return channel ? channelOperations(document, element.id, path, change(channel)) : [];
    });
  }
</script>

{#if channels.length > 0}
  <Section title="What changes" note={channels.length === 1 ? "1 value" : `${channels.length} values`}>
    {#each channels as [path, channel] (path)}
      {@const keys = keysOf(channel)}
      <div class="mb-1 rounded-md bg-ground/60 px-2 py-1.5">
        <div class="flex items-center gap-2">
          <button
            class="flex-1 text-left"
            aria-expanded={open === path}
            onclick={() => (open = open === path ? null : path)}
          >
            {nameOf(path)}
            <small class="text-faint"
              >{channel.expression != null
                ? `= ${channel.expression}`
                : keys.length === 1
                  ? "1 key"
                  : `${keys.length} keys`}</small
            ></button
          >
          <button
            class="text-soft underline"
            aria-label={`Let ${nameOf(path).toLowerCase()} stay as it is now`}
            onclick={() => set(path, () => null)}>Remove</button
          >
        </div>
        {#if open === path && keys.length > 0}
          {#each [["before", "Before the first"], ["after", "After the last"]] as const as [side, label] (side)}
            <Picker
              {label}
              value={channel[side] ?? "hold"}
              options={OUTSIDE}
              onpick={(v) => set(path, (c) => ({ ...c, [side]: v }))}
            />
          {/each}
          {#each keys as key, i (key.frame)}
            <div class="mt-1 grid grid-cols-[64px_1fr_auto_auto] items-center gap-2">
              <NumberField
                bare
                label={`Frame of ${nameOf(path).toLowerCase()} key ${i + 1}`}
                step={1}
                value={key.frame}
                oncommit={(v) => set(path, (c) => withChange(c, i, { frame: v }))}
              />
              <Picker
                bare
                label={`After ${nameOf(path).toLowerCase()} key ${i + 1}`}
                value={key.interpolation ?? "linear"}
                options={INTERPOLATIONS}
                onpick={(v) => set(path, (c) => withChange(c, i, { interpolation: v }))}
              />
              <button class="text-soft underline" onclick={() => playback.go(key.frame)}>Go</button>
              <button
                class="text-soft underline"
                aria-label={`Remove ${nameOf(path).toLowerCase()} key ${i + 1}`}
                onclick={() => set(path, (c) => withoutKey(c, key.frame))}>Remove</button
              >
            </div>
          {/each}
        {/if}
      </div>
    {/each}
  </Section>
{/if}
