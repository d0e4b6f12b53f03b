<script lang="ts">
  import Score from "../parts/Score.svelte";
  import Sheet from "../parts/Sheet.svelte";
  import StageView from "../parts/StageView.svelte";
  import { marks } from "../state/marks.svelte";
</script>

<main
  class="grid min-h-0 grid-cols-[1fr_344px]"
  style:grid-template-rows={`minmax(0,1fr) ${marks.open.length > 0 ? 400 : 300}px`}
>
  <StageView />
  <Sheet />
  <Score />
</main>
