<script lang="ts">
  // Which elements are meant: all, only those ticked, or all but those.
  import type { Element, Schemas } from "../api/client";
  import Picker from "./Picker.svelte";
  import ElementFilterList from "./ElementFilterList.svelte";
  import { groupsOf } from "../state/groups";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  type ElementFilter = Schemas["ElementFilter"];
  type List = "only" | "except";
  interface Props {
    element: Element;
    /** Where the two lists are below the element. */
    path: string;
    lists: { only?: ElementFilter[]; except?: ElementFilter[] };
    /** What the lists say, for the picker and for undo. */
    label: string;
    says: string;
    offered: Element[];
    kinds?: [ElementFilter, string][];
  }
  let { element, path, lists, label, says, offered, kinds = [] }: Props = $props();
  // Which list is meant while neither has an element yet.
  let meant = $state<{ of: number; list: List } | null>(null);
  let list = $derived<List>(
    lists.except?.length ? "except" : !lists.only?.length && meant?.of === element.id ? meant.list : "only",
  );
  let chosen = $derived(lists[list] ?? []);
  let all = $derived<[ElementFilter, string][]>([
    ...kinds,
    ...groupsOf(shot.elements).map((group): [ElementFilter, string] => [{ group }, `Group ${group}`]),
    ...offered.map((of): [ElementFilter, string] => [of.id, of.name]),
  ]);

  const at = (part: string) => ({ element, ids: selection.with(element.id), path: path + part });

  function switchList(to: List) {
    meant = { of: element.id, list: to };
    if (chosen.length === 0 || to === list) return;
    const lists = to === "only" ? { only: chosen, except: [] } : { only: [], except: chosen };
    return values.assign(at(""), says, (old: object) => ({ ...old, ...lists }));
  }
</script>

<Picker
  {label}
  target={at(`.${list}`)}
  value={list}
  options={[
    ["only", chosen.length && list === "only" ? "only these" : "all, or only those ticked"],
    ["except", "all except those ticked"],
  ]}
  onpick={switchList}
/>
<ElementFilterList offered={all} {chosen} onchange={(next) => values.assign(at(`.${list}`), says, next)} />
