<script lang="ts">
  // Asks which archived rows of one person there are, to erase them.
  import { Input, Label, Select } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import Act from "../../lib/Act.svelte";
  import Panel from "../../lib/Panel.svelte";

  type Props = {
    archived: { value: string; name: string }[]; // tables
    busy: boolean;
    erase: (body: Schemas["ErasureRequest"]) => Promise<boolean>; // whether it was done
  };
  let { archived, busy, erase }: Props = $props();
  let table = $state("");
  let where = $state("");
  let why = $state("");
  $effect(() => {
    table ||= archived[0]?.value ?? "";
  });
  async function ask() {
    const [source, ...name] = table.split(".");
    if (await erase({ source: source ?? "", table: name.join("."), where, note: why })) where = why = "";
  }
</script>

<Panel title="Erase rows on request" note="of one person, whatever their time; holds stand above it">
  <form
    class="grid items-end gap-3 p-4 sm:grid-cols-[12rem_1fr_1fr_auto]"
    onsubmit={(e) => {
      e.preventDefault();
      ask();
    }}>
    <Label>Table<Select size="sm" id="erasure-table" items={archived} bind:value={table} /></Label>
    <Label
      >Rows<Input
        size="sm"
        id="erasure-where"
        placeholder="like passenger_id = 7"
        class="placeholder:text-gray-400"
        bind:value={where}
        autocomplete="off" /></Label>
    <Label>Note; it stays, so name nobody<Input size="sm" id="erasure-note" bind:value={why} /></Label>
    <Act right="operate" any size="sm" type="submit" disabled={busy || !table || !where}
      >Find such rows; nothing is destroyed</Act>
  </form>
</Panel>
