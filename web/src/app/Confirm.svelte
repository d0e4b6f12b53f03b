<script lang="ts">
  // Asks before a deletion that cannot be undone.
  import { AlertDialog } from "bits-ui";

  interface Props {
    /** The object to be deleted; closed while null. */
    name: string | null;
    what: string;
    label: string;
    onanswer: (yes: boolean) => unknown;
  }
  let { name, what, label, onanswer }: Props = $props();
</script>

<AlertDialog.Root open={name !== null} onOpenChange={(open) => !open && onanswer(false)}>
  <AlertDialog.Portal>
    <AlertDialog.Overlay class="fixed inset-0 z-40 bg-black/50" />
    <AlertDialog.Content
      class="card fixed top-32 left-1/2 z-50 grid w-[360px] -translate-x-1/2 gap-3 p-4 shadow-2xl"
    >
      <AlertDialog.Title class="text-[17px] font-[680]">{label} {name}?</AlertDialog.Title>
      <AlertDialog.Description class="text-soft">{what} This cannot be undone.</AlertDialog.Description>
      <div class="flex justify-end gap-2">
        <AlertDialog.Cancel class="btn">Keep it</AlertDialog.Cancel>
        <AlertDialog.Action class="btn text-coral" onclick={() => onanswer(true)}>{label}</AlertDialog.Action>
      </div>
    </AlertDialog.Content>
  </AlertDialog.Portal>
</AlertDialog.Root>
