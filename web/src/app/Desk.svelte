<script lang="ts">
  import Timeline from "../timeline/Timeline.svelte";
  import Sheet from "../sheet/Sheet.svelte";
  import ViewportPane from "../viewport/ViewportPane.svelte";
  import { marks } from "../state/marks.svelte";
</script>

<main
  class="grid min-h-0 grid-cols-[minmax(0,1fr)_344px]"
  style:grid-template-rows={`minmax(0,1fr) ${marks.open.length > 0 ? 400 : 300}px`}
>
  <ViewportPane />
  <Sheet />
  <Timeline />
</main>
