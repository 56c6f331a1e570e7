<script setup lang="ts">
// Health checks, stalled work, and the isolation of functions and builds
// on this machine.
import { ask, client } from '../api/client'
import { useLoad } from '../composables/useLoad'
import { count } from '../words'

const { data, problem, reload } = useLoad(() => ask(client.GET('/health')), { topics: ['observation'] })

const needs: Record<string, string> = {
  database: 'Database is writable',
  disk: 'Data folder has free space',
  repositories: 'Repositories are writable',
  artifacts: 'Archives are writable',
  'secret.key': 'Encryption key of secrets is present',
  'signing.key': 'Signing key of versions is present',
}

const builds = {
  isolated: 'Build commands can access their own folder, the tools and, while they fetch, the registries.',
  open: 'Build commands run without isolation (--builds-uncaged): anyone who can push can read Rudmar’s keys and data.',
  refused:
    'Builds that run commands are refused, because this machine cannot isolate them. Other builds run. --builds-uncaged allows all builds.',
}
</script>

<template>
  <div class="page">
    <div class="page-head"><h1>Health</h1></div>
    <ProblemNote :problem="problem" :again="reload" />
    <template v-if="data">
      <section class="sheet sheet-pad mb-3" aria-labelledby="needs">
        <h2 id="needs">Prerequisites</h2>
        <ul class="list-unstyled mb-1">
          <li v-for="c in data.checks" :key="c.name">
            <span class="need">{{ needs[c.name] ?? c.name }}</span>
            <StateWord :state="c.warning ? 'needs attention' : c.problem ? 'unhealthy' : 'healthy'" />
            <span v-if="c.problem" class="bad">{{ c.problem }}</span>
          </li>
        </ul>
      </section>
      <section class="sheet sheet-pad mb-3" aria-labelledby="stuck">
        <h2 id="stuck">Stalled work</h2>
        <p v-if="!data.stalled.length && !data.unreachable.length" class="mb-1">
          No build, deployment or delivery has stalled for more than 10 minutes, and every target is reachable.
        </p>
        <ul v-else class="mb-1">
          <li v-for="s in data.unreachable" :key="`${s.service} ${s.stage} ${s.target}`">
            <RouterLink :to="`/s/${s.service}/board?stage=${s.stage}`"
              >{{ s.service }}, {{ s.stage }} on {{ s.target }}</RouterLink
            >
            unreachable since <TimeAgo :at="s.since" />: {{ s.reason }}
          </li>
          <li v-for="s in data.stalled" :key="`${s.service} ${s.work}`">
            {{ s.service }}<template v-if="s.stage">, {{ s.stage }}</template
            >: {{ s.work }}, no progress since <TimeAgo :at="s.since" />
          </li>
        </ul>
      </section>
      <section v-if="data.backlogs.length" class="sheet sheet-pad mb-3" aria-labelledby="backlogs">
        <h2 id="backlogs">Queued notifications</h2>
        <ul class="mb-1">
          <li v-for="b in data.backlogs" :key="b.target">
            <RouterLink to="/notifications">{{ b.target }}</RouterLink>: {{ count(b.queued, 'notification') }}, the
            oldest from <TimeAgo :at="b.oldest" /><template v-if="b.attempts"
              >; {{ count(b.attempts, 'attempt') }}, next <TimeAgo :at="b.due" />:
              <span class="bad wrap-anywhere">{{ b.response }}</span></template
            >
          </li>
        </ul>
      </section>
      <section class="sheet sheet-pad mb-3" aria-labelledby="builds">
        <h2 id="builds">Builds <StateWord :state="data.builds.state" /></h2>
        <p class="mb-1">{{ builds[data.builds.state] }}</p>
        <ul v-if="data.builds.notes.length">
          <li v-for="n in data.builds.notes" :key="n">{{ n }}</li>
        </ul>
      </section>
      <section v-for="p in data.platforms" :key="p.name" class="sheet sheet-pad mb-3" :aria-label="p.name">
        <h2>Functions on {{ p.name }} <span v-if="p.simulated" class="quiet">(simulated on this machine)</span></h2>
        <p v-if="!p.reachable" class="bad mb-1">Unreachable: {{ p.reason }}</p>
        <template v-else-if="p.notes.length">
          <p class="mb-1">Functions are isolated, except:</p>
          <ul>
            <li v-for="n in p.notes" :key="n">{{ n }}</li>
          </ul>
        </template>
        <p v-else class="mb-1">
          Each instance has its own files, processes, network and user, and limits of memory, processes and disk for all
          its processes.
        </p>
      </section>
    </template>
  </div>
</template>

<style scoped>
.need {
  display: inline-block;
  min-width: 22rem;
}
</style>
