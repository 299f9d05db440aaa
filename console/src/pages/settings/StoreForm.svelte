<script lang="ts">
  // A store that is added: a directory of the service's machine, or a bucket of an object store. The service tries it
  // out before anything is kept.
  import { Button, Checkbox, Input, Label, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  let { stores, done }: { stores: Schemas["StoreView"][]; done: (s: Schemas["StoreKept"]) => void } =
    $props();
  let form = $state({
    name: "",
    kind: "directory",
    path: "",
    second: "",
    seal: "",
    key: "",
    existing: false
  });
  let bucket = $state<Required<Schemas["StoreBucket"]>>({
    endpoint: "",
    name: "",
    prefix: "",
    region: "",
    style: "",
    credentials_file: "",
    profile: "",
    ca_file: "",
    encryption: "",
    key_id: "",
    class: ""
  });
  let problem = $state<Problem>();
  let busy = $state(false);
  const fields: [keyof typeof bucket, string, string][] = [
    ["endpoint", "Endpoint", "https://objects.example"],
    ["name", "Bucket, which must exist", "harbour-archive"],
    ["prefix", "Prefix of all names", "none"],
    ["credentials_file", "File with the credentials", "the service's environment; or an INI file"],
    ["region", "Region", "us-east-1"],
    ["ca_file", "Certificates that may sign the server's", "the system's; or a PEM file"],
    ["class", "Storage class into which files are let go cold", "none"]
  ];
  const kinds = [
    { value: "directory", name: "a directory" },
    { value: "bucket", name: "a bucket (S3)" }
  ];
  const seals = [
    { value: "", name: "not sealed" },
    { value: "file", name: "sealed, with the keys in a file" },
    { value: "env", name: "sealed, with the keys in a variable" }
  ];

  async function save(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    busy = true;
    try {
      const body: Schemas["NewStore"] = {
        name: form.name.trim(),
        second: form.second,
        existing: form.existing
      };
      if (form.kind === "directory") body.path = form.path.trim();
      else body.bucket = $state.snapshot(bucket);
      if (form.seal) body.seal = { [form.seal === "file" ? "key_file" : "key_env"]: form.key.trim() };
      done(await take(api.POST("/stores", { body })));
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<form class="grid gap-x-4 gap-y-3 px-4 py-3 md:grid-cols-3" onsubmit={save}>
  <div class="empty:hidden md:col-span-3" aria-live="polite"><Trouble {problem} /></div>
  <div>
    <Label for="store-name">Name</Label>
    <Input id="store-name" size="sm" required placeholder="vault" bind:value={form.name} />
  </div>
  <div>
    <Label for="kind">Place</Label>
    <Select id="kind" size="sm" placeholder="" items={kinds} bind:value={form.kind} />
  </div>
  <div>
    <Label for="second">Second copies of its segments</Label>
    <Select
      id="second"
      size="sm"
      placeholder=""
      items={[{ value: "", name: "none" }, ...stores.map((s) => ({ value: s.name, name: `in ${s.name}` }))]}
      bind:value={form.second} />
  </div>
  {#if form.kind === "directory"}
    <div class="md:col-span-3">
      <Label for="path">Directory, as the service's machine has it</Label>
      <Input id="path" size="sm" required placeholder="/srv/archive/vault" bind:value={form.path} />
    </div>
  {:else}
    {#each fields as [name, label, hint] (name)}
      <div>
        <Label for="bucket-{name}">{label}</Label>
        <Input
          id="bucket-{name}"
          size="sm"
          required={name === "endpoint" || name === "name"}
          placeholder={hint}
          bind:value={bucket[name]} />
      </div>
    {/each}
  {/if}
  <div>
    <Label for="seal">Encryption by the service</Label>
    <Select id="seal" size="sm" placeholder="" items={seals} bind:value={form.seal} />
  </div>
  {#if form.seal}
    <div class="md:col-span-2">
      <Label for="key">{form.seal === "file" ? "File of age keys" : "Variable that holds the keys"}</Label>
      <Input
        id="key"
        size="sm"
        required
        placeholder={form.seal === "file" ? "/etc/ambercellar/secrets/vault.key" : "AMBERCELLAR_SECRET_VAULT"}
        bind:value={form.key} />
    </div>
  {/if}
  <div class="md:col-span-3">
    <Checkbox bind:checked={form.existing}
      >It comes from elsewhere and is a store already; no other service writes there</Checkbox>
  </div>
  <div class="flex items-center gap-3 md:col-span-3">
    <Button type="submit" size="sm" disabled={busy}>{busy ? "Trying it out …" : "Try out and add"}</Button>
    <span class="text-xs text-gray-500 dark:text-gray-400"
      >The service writes a file there, reads it back and removes it. Nothing is kept if that fails.</span>
  </div>
</form>
