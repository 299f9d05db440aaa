<script lang="ts">
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import GuardForm from "./GuardForm.svelte";
  import SourceForm from "./SourceForm.svelte";
  import SourceReport from "./SourceReport.svelte";

  type Doing = { what: "add" | "change" | "guard" | "report" | "remove"; source?: Schemas["Config"] };
  let doing = $state<Doing>();
  let report = $state<Schemas["Report"]>();
  let said = $state("");
  let busy = $state("");
  let problem = $state<Problem>();
  const sources = new Loader(() => take(api.GET("/sources")));
  sources.load();

  function begin(next: Doing | undefined) {
    problem = undefined;
    said = "";
    doing = next;
  }
  function end(name: string, found: Schemas["Report"], verb: string) {
    report = found;
    begin({ what: "report", source: { name } as Schemas["Config"] });
    said = `Source ${name} ${verb}.`;
    sources.load();
  }
  async function act(name: string, fn: () => Promise<void>) {
    begin(undefined);
    busy = name;
    try {
      await fn();
    } catch (e) {
      problem = problemOf(e);
    }
    busy = "";
  }
  const path = (source: string) => ({ params: { path: { source } } });
  const check = (s: Schemas["Config"]) =>
    act(s.name, async () => {
      report = await take(api.GET("/sources/{source}/check", path(s.name)));
      doing = { what: "report", source: s };
    });
  const remove = (s: Schemas["Config"]) =>
    act(s.name, async () => {
      await take(api.DELETE("/sources/{source}", path(s.name)));
      said = `Source ${s.name} removed.`;
      await sources.load();
    });
  function password(s: Schemas["Config"]) {
    if (s.password_env) return `in the variable ${s.password_env}`;
    return s.password_file ? `in the file ${s.password_file}` : "none";
  }
</script>

<div class="mb-3 flex items-center gap-3">
  <Act
    right="administer"
    size="sm"
    color={doing?.what === "add" ? "alternative" : "primary"}
    onclick={() => begin(doing?.what === "add" ? undefined : { what: "add" })}
    >{doing?.what === "add" ? "Not now" : "Add a source"}</Act>
  <span role="status" class="text-sm">{said}</span>
</div>
<Trouble problem={sources.problem ?? problem} />
{#if doing?.what === "add"}
  <Panel title="New source"><SourceForm done={(name, r) => end(name, r, "added")} /></Panel>
{:else if doing?.what === "change" && doing.source}
  {#key doing.source.name}<Panel title="Change {doing.source.name}"
      ><SourceForm source={doing.source} done={(name, r) => end(name, r, "changed")} /></Panel
    >{/key}
{:else if doing?.what === "guard" && doing.source}
  {#key doing.source.name}<Panel title="Guard rails of {doing.source.name}" note="whatever rules say">
      <GuardForm
        source={doing.source.name}
        done={() => {
          const name = doing?.source?.name;
          begin(undefined);
          said = `Guard rails of ${name} set.`;
        }} />
    </Panel>{/key}
{:else if doing?.what === "report" && report}
  <Panel title="Check of {doing.source?.name}"><SourceReport {report} /></Panel>
{/if}
<Panel>
  <Listing
    label="Sources"
    heads={["Source", "Engine", "Address", "Password", "#Connections", ""]}
    items={sources.data?.items}>
    {#snippet row(s: Schemas["Config"])}
      <TableBodyRow>
        <TableBodyCell class="font-medium">{s.name}</TableBodyCell>
        <TableBodyCell>{s.engine}</TableBodyCell>
        <TableBodyCell class="max-w-96 break-all whitespace-normal">{s.address}</TableBodyCell>
        <TableBodyCell class="max-w-64 break-all whitespace-normal">{password(s)}</TableBodyCell>
        <TableBodyCell class="text-right">{s.connections}</TableBodyCell>
        <TableBodyCell class="text-right">
          <span class="inline-flex gap-1">
            {#if doing?.what === "remove" && doing.source?.name === s.name}
              <Button size="xs" color="red" onclick={() => remove(s)}>Remove {s.name}</Button>
              <Button size="xs" color="alternative" onclick={() => begin(undefined)}>Keep</Button>
            {:else}
              <Button size="xs" color="alternative" disabled={!!busy} onclick={() => check(s)}
                >{busy === s.name ? "Looking …" : "Check"}</Button>
              <Act
                right="administer"
                source={s.name}
                size="xs"
                color="alternative"
                onclick={() => begin({ what: "change", source: s })}>Change</Act>
              <Act
                right="administer"
                source={s.name}
                size="xs"
                color="alternative"
                onclick={() => begin({ what: "guard", source: s })}>Guard rails</Act>
              <Act
                right="administer"
                source={s.name}
                size="xs"
                color="alternative"
                onclick={() => begin({ what: "remove", source: s })}>Remove …</Act>
            {/if}
          </span>
        </TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="No source yet">Add the database whose tables grow.</Blank>{/snippet}
  </Listing>
</Panel>
