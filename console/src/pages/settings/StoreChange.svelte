<script lang="ts">
  // Where a store's second copies go, and how its segments are verified again and again.
  import { untrack } from "svelte";
  import { Button, Input, Label, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  let {
    store,
    stores,
    done
  }: {
    store: Schemas["StoreView"];
    stores: Schemas["StoreView"][];
    done: (s: Schemas["StoreKept"]) => void;
  } = $props();
  const mebibyte = 1024 * 1024;
  const was = untrack(() => store); // the form begins with what is in force
  let form = $state({
    second: was.second,
    every: was.scrub.every ?? "",
    rate: (was.scrub.rate ?? 0) / mebibyte,
    window: was.scrub.window ?? ""
  });
  let problem = $state<Problem>();
  let others = $derived(stores.filter((s) => s.name !== store.name));

  async function save(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    try {
      const scrub = {
        every: form.every.trim() || undefined,
        rate: Math.round(Number(form.rate) * mebibyte),
        window: form.window.trim() || undefined
      };
      const params = { path: { store: store.name } };
      done(await take(api.PATCH("/stores/{store}", { params, body: { second: form.second, scrub } })));
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<form class="grid gap-x-4 gap-y-3 px-4 py-3 md:grid-cols-4" onsubmit={save}>
  <div class="empty:hidden md:col-span-4" aria-live="polite"><Trouble {problem} /></div>
  <div>
    <Label for="change-second">Second copies of its segments</Label>
    <Select
      id="change-second"
      size="sm"
      placeholder=""
      items={[{ value: "", name: "none" }, ...others.map((s) => ({ value: s.name, name: `in ${s.name}` }))]}
      bind:value={form.second} />
  </div>
  <div>
    <Label for="every">Each segment is verified every</Label>
    <Input id="every" size="sm" placeholder="never by itself; or P30D" bind:value={form.every} />
  </div>
  <div>
    <Label for="rate">Reading at most, in MiB a second</Label>
    <Input id="rate" size="sm" type="number" min="0" step="any" bind:value={form.rate} />
  </div>
  <div>
    <Label for="window">Only then, in UTC</Label>
    <Input id="window" size="sm" placeholder="at any time; or 01:00-05:00" bind:value={form.window} />
  </div>
  <div class="md:col-span-4"><Button type="submit" size="sm">Change</Button></div>
</form>
