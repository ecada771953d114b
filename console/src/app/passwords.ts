// A password that a user chose.
export interface ChosenPassword {
  password: string
  /** Whether the user confirmed it although it is weak. */
  confirm_weak: boolean
}
