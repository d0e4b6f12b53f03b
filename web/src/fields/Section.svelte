<script lang="ts">
  import type { Snippet } from "svelte";
  let { title, note = "", children }: { title: string; note?: string; children: Snippet } = $props();
</script>

<section class="mb-3" aria-label={title}>
  <h2 class="mb-1 flex justify-between font-[650] text-soft">
    {title} <small class="font-normal text-faint">{note}</small>
  </h2>
  {@render children()}
</section>
