<script lang="ts">
  // Keeps and schedules that have names. They are written as rules are, and applied like them.
  import { TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Schemas } from "../../api/client";
  import { Loader } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import NamedText from "./NamedText.svelte";

  type Thing = Schemas["Keep"] | Schemas["SharedSchedule"];
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const kinds = [
    {
      title: "Keeps",
      one: "keep",
      about: "how long rows stay, for the clauses that name it",
      blank: "keep: disputes\nabout: Fares can be disputed for three years.\nperiod: P3Y\n",
      list: new Loader<{ items: Thing[] }>(() => take(api.GET("/keeps")))
    },
    {
      title: "Schedules",
      one: "schedule",
      about: "when the rules fire that name it",
      blank: `schedule: nights\nabout: When the harbour sleeps.\nwhen: daily at 02:30\nzone: ${zone}\n`,
      list: new Loader<{ items: Thing[] }>(() => take(api.GET("/schedules")))
    }
  ];
  kinds.forEach((k) => k.list.load());
  let editing = $state<{ title: string; text: string }>();
  let said = $state("");

  function done(what: string) {
    editing = undefined;
    said = what;
    kinds.forEach((k) => k.list.load());
  }
</script>

<p role="status" class="text-sm not-empty:mb-3">{said}</p>
{#if editing}
  {#key editing.title}<Panel title={editing.title}
      ><NamedText text={editing.text} {done} cancel={() => (editing = undefined)} /></Panel
    >{/key}
{/if}
{#each kinds as k (k.one)}
  <Trouble problem={k.list.problem} />
  <Panel title={k.title} note={k.about}>
    <Listing label={k.title} heads={["Name", "What it says", "Applied", "By", ""]} items={k.list.data?.items}>
      {#snippet row(t: Thing)}
        <TableBodyRow>
          <TableBodyCell class="font-medium">{t.name}</TableBodyCell>
          <TableBodyCell class="whitespace-pre-wrap"
            ><code class="text-xs">{t.text.trim()}</code></TableBodyCell>
          <TableBodyCell><When at={t.applied_at} /></TableBodyCell>
          <TableBodyCell>{t.applied_by}</TableBodyCell>
          <TableBodyCell class="text-right"
            ><Act
              right="administer"
              size="xs"
              color="alternative"
              onclick={() => {
                said = "";
                editing = { title: `Change ${t.name}`, text: t.text };
              }}>Change</Act
            ></TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="No {k.one} has a name yet" />{/snippet}
    </Listing>
    <div class="border-t border-gray-200 px-4 py-2 dark:border-gray-700">
      <Act
        right="administer"
        size="xs"
        color="alternative"
        onclick={() => {
          said = "";
          editing = { title: `New ${k.one}`, text: k.blank };
        }}>Write a {k.one}</Act>
    </div>
  </Panel>
{/each}
