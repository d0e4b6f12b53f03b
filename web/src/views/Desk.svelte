<script lang="ts">
  import Score from "../parts/Score.svelte";
  import Sheet from "../parts/Sheet.svelte";
  import StageView from "../parts/StageView.svelte";
</script>

<main class="grid min-h-0 grid-cols-[1fr_344px] grid-rows-[minmax(0,1fr)_300px]">
  <StageView />
  <Sheet />
  <Score />
</main>
