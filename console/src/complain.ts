// Says on top of the page that something went wrong, below the bar so that nothing is covered.
import { ElMessage } from 'element-plus'

export function complain(problem: unknown): void {
  ElMessage({ type: 'error', message: problem instanceof Error ? problem.message : String(problem), duration: 10000, showClose: true, offset: 72 })
}
