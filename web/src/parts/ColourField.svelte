<script lang="ts">
  interface Props {
    label: string;
    /** Scene-linear. */
    value: number[];
    oncommit: (value: [number, number, number]) => void;
  }
  let { label, value, oncommit }: Props = $props();

  const encode = (v: number) => (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055);
  const decode = (v: number) => (v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);
  let hex = $derived(
    "#" +
      value
        .map((v) =>
          Math.round(255 * encode(Math.min(1, Math.max(0, v))))
            .toString(16)
            .padStart(2, "0"),
        )
        .join(""),
  );

  function pick(event: Event & { currentTarget: HTMLInputElement }) {
    const code = parseInt(event.currentTarget.value.slice(1), 16);
    const part = (shift: number) => Number(decode(((code >> shift) & 255) / 255).toFixed(4));
    oncommit([part(16), part(8), part(0)]);
  }
</script>

<label class="grid min-h-[27px] grid-cols-[108px_1fr] items-center gap-2">
  <span>{label}</span>
  <span class="flex items-center gap-2">
    <input type="color" class="h-6 w-12 rounded bg-ground" value={hex} onchange={pick} />
    <span class="text-faint">{value.map((v) => Number(v.toFixed(3))).join(" ")}</span>
  </span>
</label>
