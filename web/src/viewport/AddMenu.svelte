<script lang="ts">
  import Plus from "@lucide/svelte/icons/plus";
  import { DropdownMenu } from "bits-ui";
  import { addables } from "../state/addables";
  import { add, addText } from "../state/adding";
  import { addFiles } from "../state/takingIn";
  import { desk } from "../state/desk.svelte";
  import { addTurntable } from "../state/turntable";

  let chooser: HTMLInputElement;
  /** Whether the menu closes because something was added. */
  let added = false;
  const columns = [
    ["Solid", "Particle"],
    ["Liquid", "Force"],
    ["Curve", "Region", "Camera", "Light"],
  ] as const;
</script>

<input
  class="hidden"
  type="file"
  multiple
  accept=".obj,.zip,.glb,.gltf,.usda,.usdc,.usdz,.usd,.abc,.ply,.stl,.svg,.png,.jpg,.jpeg,.exr,.hdr"
  aria-label="File to take in"
  bind:this={chooser}
  onchange={async () => {
    await addFiles(chooser.files ?? []);
    chooser.value = "";
  }}
/>
<DropdownMenu.Root>
  <DropdownMenu.Trigger
    class="grid h-7 w-7 place-items-center rounded-lg bg-[#12181ae0] text-[#c9f26b]"
    aria-label="Add"
    title="Add an element"><Plus size={17} /></DropdownMenu.Trigger
  >
  <DropdownMenu.Portal>
    <DropdownMenu.Content
      class="card z-40 min-w-[180px] p-1.5 shadow-2xl"
      align="end"
      side="left"
      sideOffset={6}
      onCloseAutoFocus={(event) => {
        // After adding, Enter plays: it must not open this menu again.
        if (!added) return;
        added = false;
        event.preventDefault();
        desk.viewport?.focus();
      }}
    >
      <div class="grid grid-cols-3 gap-x-2">
        {#each columns as column (column[0])}
          <div>
            {#each column as group, i (group)}
              <DropdownMenu.Group>
                <DropdownMenu.GroupHeading
                  class={`px-2.5 pb-0.5 text-[11px] text-faint ${i > 0 ? "pt-2" : ""}`}
                  >{group}s</DropdownMenu.GroupHeading
                >
                {#each addables.filter((addable) => addable.group === group) as addable (addable.name)}
                  <DropdownMenu.Item
                    class="rounded-md px-2.5 py-1 outline-none data-highlighted:bg-raised"
                    onSelect={() => {
                      added = true;
                      void add(addable);
                    }}>{addable.name}</DropdownMenu.Item
                  >
                {/each}
                {#if group === "Curve"}
                  <DropdownMenu.Item
                    class="rounded-md px-2.5 py-1 outline-none data-highlighted:bg-raised"
                    onSelect={() => addText()}>Text</DropdownMenu.Item
                  >
                {/if}
              </DropdownMenu.Group>
            {/each}
          </div>
        {/each}
      </div>
      <DropdownMenu.Separator class="my-1 h-px bg-line" />
      <DropdownMenu.Item
        class="rounded-md px-2.5 py-1 outline-none data-highlighted:bg-raised"
        onSelect={() => addTurntable()}>Turntable camera around the selection</DropdownMenu.Item
      >
      <DropdownMenu.Item
        class="rounded-md px-2.5 py-1 outline-none data-highlighted:bg-raised"
        onSelect={() => chooser.click()}>Mesh, drawing or image file…</DropdownMenu.Item
      >
    </DropdownMenu.Content>
  </DropdownMenu.Portal>
</DropdownMenu.Root>
