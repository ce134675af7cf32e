<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got } from '../api/client'
import StateShape from '../components/StateShape.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { span } from '../composables/clock'
import { useListeners, useStatus } from '../composables/data'
import { useSession } from '../composables/session'
import FormDialog from '../components/FormDialog.vue'
import SetupTable from './SetupTable.vue'

/** How the service itself is: its instances, what waits in it, and what it listens on. */
const session = useSession()
const status = useStatus()
const q = useQuery({
  queryKey: ['instances'],
  queryFn: () => got(api.GET('/api/v1/instances')),
  refetchInterval: 5_000,
})
const listeners = useListeners(session.may('admin'))
const s = computed(() => status.data.value)
const counts = computed(() =>
  s.value
    ? [
        ['Open incidents', s.value.open_incidents],
        ['Active runs', s.value.active_runs],
        ['Open gates', s.value.open_gates],
        ['Open questions', s.value.open_questions],
        ['Messages on their way', s.value.undelivered],
      ]
    : [],
)
const gone = ref('')
const sure = ref(false)
const bury = () => got(api.POST('/api/v1/instances/{id}/gone', { params: { path: { id: gone.value } } }))
const skew = (ms: number) => (Math.abs(ms) < 1000 ? 'right' : `${span(Math.abs(ms))} ${ms > 0 ? 'ahead' : 'behind'}`)
</script>

<template>
  <div class="page">
    <h1>Installation</h1>
    <p v-if="s" class="faint">
      Version {{ s.version }}, {{ s.instances }} {{ s.instances === 1 ? 'instance' : 'instances' }}.
      <template v-if="s.halted">All changes are halted by {{ s.halted_by }}.</template>
    </p>
    <dl class="counts">
      <div v-for="[name, n] in counts" :key="name">
        <dt>{{ name }}</dt>
        <dd class="num">{{ n }}</dd>
      </div>
    </dl>
    <h2>Instances</h2>
    <SetupTable
      label="Instances"
      :rows="q.data.value"
      :error="q.error.value?.message"
      empty="No instance was seen lately."
      :columns="[
        { title: 'Host', key: 'host', value: (i) => `${i.host}, process ${i.pid}` },
        { title: 'State', key: 'state', value: (i) => i.state },
        { title: 'Heard', key: 'heard', value: (i) => i.beat_at },
        { title: 'Clock', key: 'clock', value: (i) => skew(i.clock_skew_ms), wide: true },
        { title: 'Version', key: 'version', value: (i) => i.version, wide: true },
        { title: 'Started', key: 'begun', value: (i) => i.begun_at, wide: true },
      ]"
    >
      <template #state="{ row }"
        ><span :class="{ amber: row.state === 'silent' }"
          ><StateShape v-if="row.state === 'silent'" name="unsure" /> {{ row.state }}</span
        ></template
      >
      <template #heard="{ row }"><TimeAgo :at="row.beat_at" /></template>
      <template #begun="{ row }"><TimeAgo :at="row.begun_at" /></template>
      <template #acts="{ row }">
        <v-btn
          v-if="row.state === 'silent' && session.may('approver')"
          size="small"
          variant="text"
          @click="((gone = row.id), (sure = true))"
          >Say that it is gone</v-btn
        >
      </template>
    </SetupTable>
    <template v-if="listeners.data.value?.length">
      <h2>Listeners</h2>
      <table class="plain" aria-label="Listeners">
        <tbody>
          <tr v-for="(l, n) in listeners.data.value" :key="n">
            <td v-for="(v, k) in l" :key="k">
              <span class="faint">{{ String(k).replaceAll('_', ' ') }}</span> {{ v }}
            </td>
          </tr>
        </tbody>
      </table>
    </template>
    <FormDialog
      v-model="sure"
      title="Is this instance gone?"
      button="It is gone"
      :go="bury"
      says="Say so only where its machine is off or fenced: what it may have begun can be begun again then."
      @done="q.refetch()"
    />
  </div>
</template>

<style scoped>
.counts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 32px;
  margin: 12px 0;
}
dt {
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.76);
}
dd {
  margin: 0;
  font-size: 20px;
  font-weight: 660;
}
.amber {
  color: rgb(var(--v-theme-warning));
}
</style>
