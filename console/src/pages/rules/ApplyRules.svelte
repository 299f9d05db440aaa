<script lang="ts">
  import { router } from "svelte-spa-router";
  import { Alert, Button, Textarea } from "flowbite-svelte";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  const asked = new URLSearchParams(router.querystring ?? "");
  const table = asked.get("table") ?? "boarding_scan";
  let text = $state(`rule: ${table.replace(/[^a-z0-9]+/gi, "-").toLowerCase()}
about: Say here why these records are kept as long as they are.
source: ${asked.get("source") ?? "harbour"}
table: ${table}
age: ${asked.get("age") || "created_at"}
clauses:
  - keep: 18 months      # or ISO 8601: P18M
    align: month         # cut at the start of a month
then: archive            # or: purge
archive: {store: cellar}
`);
  let problem = $state<Problem>();
  let result = $state<Schemas["RuleResult"]>();
  let checked = $state(false);

  async function edit() {
    if (!asked.get("rule")) return;
    const r = await take(api.GET("/rules/{rule}", { params: { path: { rule: asked.get("rule")! } } })).catch((e) => void (problem = problemOf(e)));
    if (r) text = r.text;
  }
  edit();

  async function send(path: "/rules" | "/rules/check") {
    problem = result = undefined;
    try {
      result = await take(api.POST(path, { body: { text } }));
      checked = path === "/rules/check";
    } catch (e) {
      problem = problemOf(e);
    }
  }
  let mistakes = $derived(result?.problems.filter((p) => !p.warning) ?? []);
  let warnings = $derived(result?.problems.filter((p) => p.warning) ?? []);
</script>

<Page title="Apply rules" about="One rule, or several separated by lines of three dashes. All are applied, or none." back={{ href: "#/rules", text: "Rules" }}>
  {#snippet actions()}
    <Button size="sm" color="alternative" onclick={() => send("/rules/check")}>Check</Button>
    <Button size="sm" onclick={() => send("/rules")}>Apply</Button>
  {/snippet}
  <div aria-live="polite">
    <Trouble {problem} />
    {#if mistakes.length}<Trouble problem={{ type: "", title: "The rule cannot be applied", status: 422, detail: "", problems: mistakes }} />{/if}
    {#each warnings as w, i (i)}<Alert color="yellow" class="mb-2">{w.field}: {w.message}{w.remedy ? `; ${w.remedy}` : ""}</Alert>{/each}
    {#if result && checked && !mistakes.length}<Alert color="green" class="mb-3">No mistakes. Nothing was changed yet.</Alert>{/if}
    {#each result?.applied ?? [] as a (a.rule)}
      <Alert color="green" class="mb-3">Rule <a class="text-link" href="#/rules/{a.rule}">{a.rule}</a>, revision {a.revision}: {a.changes.join("; ") || "as it was"}</Alert>
    {/each}
  </div>
  <Panel>
    <div class="p-3">
      <label for="rules" class="sr-only">Rules as YAML</label>
      <Textarea id="rules" rows={20} bind:value={text} class="w-full font-mono text-sm" spellcheck="false" />
    </div>
  </Panel>
</Page>
