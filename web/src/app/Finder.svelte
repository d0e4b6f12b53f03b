<script lang="ts">
  import { Command, Dialog } from "bits-ui";
  import { tick } from "svelte";
  import { commands, shownKeys } from "../state/commands.svelte";
  import { desk } from "../state/desk.svelte";
  import { find, type Entry } from "../state/find";
  import { parametersOf, type Parameter } from "../state/parameters";
  import { route } from "../state/route.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";

  interface Found {
    note: string;
    run: () => unknown;
  }

  const SHOWN = 60;
  let query = $state("");

  let entries = $derived.by<Entry<Found>[]>(() => {
    if (!desk.finder) return [];
    const list: Entry<Found>[] = commands.list
      .filter((command) => commands.can(command))
      .map((command) => ({
        name: command.name,
        item: { note: shownKeys(command), run: command.run },
      }));
    for (const element of shot.elements)
      list.push({ name: element.name, item: { note: "element", run: () => selection.only(element.id) } });
    for (const element of shot.elements)
      for (const parameter of parametersOf(element))
        list.push({
          name: parameter.name,
          also: element.name,
          item: { note: `of ${element.name}`, run: () => toField(element.id, parameter) },
        });
    return list;
  });
  let found = $derived(find(query, entries, SHOWN));

  /** Goes to the field of a value on its element's Sheet. */
  async function toField(element: number, parameter: Parameter) {
    selection.only(element);
    desk.tab = parameter.tab;
    if (route.shot !== null && route.view !== "desk") route.open(route.shot);
    await tick();
    // The closing dialog gives the focus back first.
    requestAnimationFrame(() =>
      document
        .querySelector<HTMLElement>(
          `aside [role=tabpanel] :is(input, button)[aria-label^="${parameter.name}"], aside [aria-label="${parameter.name}"] button`,
        )
        ?.focus(),
    );
  }

  /** Enter before the list has marked an entry means the first one. */
  function enter(event: KeyboardEvent & { currentTarget: HTMLElement }) {
    if (event.key !== "Enter" || event.currentTarget.querySelector("[data-selected]")) return;
    event.preventDefault();
    event.stopPropagation();
    if (found.length > 0) pick(found[0].item.run);
  }

  /** Letters typed before the field has the focus are the query's; Enter means the first entry then too. */
  function typeAhead(event: KeyboardEvent) {
    if (!desk.finder || event.ctrlKey || event.metaKey || event.altKey) return;
    const enters = event.key === "Enter";
    if (!enters && event.key.length !== 1) return;
    if ((event.target as HTMLElement).matches("[role=dialog] *")) return;
    event.preventDefault();
    event.stopPropagation();
    if (!enters) query += event.key;
    else if (found.length > 0) pick(found[0].item.run);
  }

  function pick(run: () => unknown) {
    desk.finder = false;
    query = "";
    run();
  }
</script>

<svelte:window onkeydowncapture={typeAhead} />

<Dialog.Root bind:open={desk.finder}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/50" />
    <Dialog.Content
      class="card fixed top-24 left-1/2 z-50 w-[520px] -translate-x-1/2 overflow-hidden shadow-2xl"
      onkeydowncapture={enter}
    >
      <Dialog.Title class="sr-only">Find a command, element or value</Dialog.Title>
      <Command.Root shouldFilter={false}>
        <Command.Input
          class="w-full border-b border-line bg-transparent px-4 py-3 text-[14px] outline-none"
          placeholder="Find a command, element or value"
          aria-label="Find a command, element or value"
          bind:value={query}
        />
        <Command.List class="max-h-[360px] overflow-auto p-2">
          <Command.Viewport>
            {#each found as entry, i (entry.name + entry.item.note)}
              <Command.Item
                value={`${i} ${entry.name} ${entry.item.note}`}
                class="flex justify-between rounded-md px-3 py-1.5 data-selected:bg-raised"
                onSelect={() => pick(entry.item.run)}
                ><span>{entry.name}</span><span class="text-faint">{entry.item.note}</span></Command.Item
              >
            {:else}
              <p class="px-3 py-4 text-soft">Nothing is called that.</p>
            {/each}
          </Command.Viewport>
        </Command.List>
      </Command.Root>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
