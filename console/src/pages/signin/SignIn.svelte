<script lang="ts">
  import { Button, Input, Label } from "../../lib/ui";
  import { api, take, type Problem } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { done }: { done: () => void } = $props();
  let token = $state("");
  let problem = $state<Problem>();

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    try {
      await take(api.POST("/session", { body: { token: token.trim() } }));
      done();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<svelte:head><title>Sign in · Amber Cellar</title></svelte:head>
<main class="mx-auto flex min-h-screen max-w-sm flex-col justify-center px-4">
  <div class="mb-6 flex items-center gap-3">
    <img src="/icon.svg" alt="" class="h-9 w-9" />
    <h1 class="text-xl font-semibold">Amber Cellar</h1>
  </div>
  <Trouble {problem} />
  <form onsubmit={submit} class="space-y-3">
    <Label for="token">Token</Label>
    <Input
      id="token"
      type="password"
      autocomplete="current-password"
      required
      bind:value={token}
      placeholder="amber_…" />
    <Button type="submit" class="w-full">Sign in</Button>
  </form>
  <p class="mt-4 text-sm text-gray-500 dark:text-gray-400">
    The administrator's token was written into a file of the data directory when the service first started;
    <code>ambercellar serve -new-token</code> makes a new one. Others have a token of their own from an
    administrator:
    <code>ambercellar account add</code>.
  </p>
</main>
