package people

import (
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate.example/innergate/internal/store"
)

// Admit stores admissions of people, over those that are there.
func (rm *Room) Admit(tx *gorm.DB, rows []store.AdmissionRow) error {
	for chunk := range slices.Chunk(rows, 200) {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&chunk).Error; err != nil {
			return err
		}
	}
	return nil
}
