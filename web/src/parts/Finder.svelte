<script lang="ts">
  import { Command, Dialog } from "bits-ui";
  import { commands } from "../state/commands.svelte";
  import { desk } from "../state/desk.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";

  const parameters: [string, typeof desk.tab][] = [
    ["Place", "motion"],
    ["Turn", "motion"],
    ["Shape", "shape"],
    ["Copies", "shape"],
    ["Movement", "body"],
    ["Density", "body"],
    ["Mass", "body"],
    ["Friction", "body"],
    ["Bounce", "body"],
    ["Margin", "body"],
    ["Launch velocity", "body"],
    ["Launch spin", "body"],
    ["Albedo", "look"],
    ["Roughness", "look"],
    ["Metalness", "look"],
    ["Transmission", "look"],
    ["Emission", "look"],
  ];

  function pick(run: () => unknown) {
    desk.finder = false;
    run();
  }
</script>

<Dialog.Root bind:open={desk.finder}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/50" />
    <Dialog.Content
      class="card fixed top-24 left-1/2 z-50 w-[520px] -translate-x-1/2 overflow-hidden shadow-2xl"
    >
      <Dialog.Title class="sr-only">Find a command, element or value</Dialog.Title>
      <Command.Root>
        <Command.Input
          class="w-full border-b border-line bg-transparent px-4 py-3 text-[14px] outline-none"
          placeholder="Find a command, element or value"
          aria-label="Find a command, element or value"
        />
        <Command.List class="max-h-[360px] overflow-auto p-2">
          <Command.Viewport>
            <Command.Empty class="px-3 py-4 text-soft">Nothing is called that.</Command.Empty>
            {#each shot.elements as element (element.id)}
              <Command.Item
                value={`${element.name} element ${element.id}`}
                class="flex justify-between rounded-md px-3 py-1.5 data-selected:bg-raised"
                onSelect={() => pick(() => selection.only(element.id))}
                ><span>{element.name}</span><span class="text-faint">element</span></Command.Item
              >
            {/each}
            {#if selection.ids.length > 0}
              {#each parameters as [name, tab] (name)}
                <Command.Item
                  value={`${name} value`}
                  class="flex justify-between rounded-md px-3 py-1.5 data-selected:bg-raised"
                  onSelect={() => pick(() => (desk.tab = tab))}
                  ><span>{name}</span><span class="text-faint">value of {shot.selected?.name}</span
                  ></Command.Item
                >
              {/each}
            {/if}
            {#each commands.list.filter((command) => commands.can(command)) as command (command.name)}
              <Command.Item
                value={command.name}
                class="flex justify-between rounded-md px-3 py-1.5 data-selected:bg-raised"
                onSelect={() => pick(command.run)}
                ><span>{command.name}</span><span class="text-faint"
                  >{command.keys?.replace("Mod", "Ctrl") ?? ""}</span
                ></Command.Item
              >
            {/each}
          </Command.Viewport>
        </Command.List>
      </Command.Root>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
